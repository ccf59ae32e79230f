"""Bytes in, events out. No sockets, no clock, no files: every rule is testable with plain byte strings."""
