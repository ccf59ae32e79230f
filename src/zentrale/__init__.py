"""Zentrale: commission surveillance recorders and IP cameras on site."""

__version__ = "0.1.0"
