"""The computation: no files, no clock, no printing. Everything here works on values it is handed."""
