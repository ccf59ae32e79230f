"""The steps of the work: read the plan, act through field/, write the logbook, return a result object."""
