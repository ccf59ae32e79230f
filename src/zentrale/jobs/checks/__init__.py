"""The checks of a verification, a module each: what is observed, and what it says against the plan."""
