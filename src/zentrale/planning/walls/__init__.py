"""Walls: which stream each panel shows, what their machine has to bear for it, and what mends what it does not bear."""
