"""What is in a capture file, in words of the plan: the same observations as live, from one more source."""
