"""The plan as configuration: a module for each kind of file, and the list of them in `registry`."""
