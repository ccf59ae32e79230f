"""Choosing cabinets and switches: the problem as numbers, its programme, dealing out, and the search with its proof."""
