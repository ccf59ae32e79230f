"""The parts of the planning calculation, a module each: what is calculated, and how it is told, drawn and listed."""
