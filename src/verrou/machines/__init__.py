"""The outside: what a machine can do, every kind of machine, and how an address finds its kind."""
