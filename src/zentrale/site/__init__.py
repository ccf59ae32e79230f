"""The plan as typed objects; reading, checking and writing its files."""
