"""Capture files: bytes of pcap and pcapng in, packets out, in batches over NumPy; and what those packets tell by themselves."""
