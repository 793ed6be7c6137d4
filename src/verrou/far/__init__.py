"""A machine across a cable, by SSH: a whole command is handed over and runs there, with its user here."""
