"""The computation: no files, no clock, no printing. Everything works on its arguments."""
