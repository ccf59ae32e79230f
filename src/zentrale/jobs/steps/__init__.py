"""The steps of a registration, a module each: look, compare, change, read back, take back."""
