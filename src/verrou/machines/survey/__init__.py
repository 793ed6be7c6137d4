"""Survey files: records of machines, which are only observed."""
