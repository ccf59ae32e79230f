"""Passwords: what opens a device, what a refusal means, how a new one is made, and who gets to see them."""
