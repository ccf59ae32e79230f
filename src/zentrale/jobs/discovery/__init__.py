"""Who is there, which planned device each is, and why one is not seen."""
