"""The plan's network built on this machine and tried with real packets."""
