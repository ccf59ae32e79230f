"""From the packets of a stream to its figures, and to its first key picture."""
