"""Walls of a control room in the plan: their grids, what their machines bear, and walls.csv."""
