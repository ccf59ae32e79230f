"""The ways of discovery, a module each, and bringing together what they saw."""
