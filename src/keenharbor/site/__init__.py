"""One site: its description, what it is made of, what is available for it, and whether it is ready."""
