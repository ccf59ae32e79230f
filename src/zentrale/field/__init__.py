"""Sockets and time: talking to devices. Protocol rules live in `protocols/`; here are retries and timeouts."""
