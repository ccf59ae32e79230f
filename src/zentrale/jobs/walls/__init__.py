"""Walls on site: what is known of their streams, and the trial in which all of one play at once."""
