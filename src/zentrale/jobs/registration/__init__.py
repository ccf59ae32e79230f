"""Bringing devices to plan and onto their recorders, and taking that back."""
