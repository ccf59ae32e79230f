"""Documents, tables and figures: from result objects to bytes. Nothing here asks a device or reads the logbook."""
