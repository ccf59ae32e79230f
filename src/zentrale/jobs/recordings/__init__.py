"""What recorders keep: which hours, played back, saved, and held against the live picture."""
