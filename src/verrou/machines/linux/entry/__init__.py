"""By which routes people come in: services, and what they are."""
