"""Routes: services and how people sign in by them."""
