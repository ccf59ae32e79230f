"""What all jobs know: devices as they were found, how to get into them, what is planned, the form of a step."""
