"""What was seen and what was done (SQLite), and the vault of credentials."""
