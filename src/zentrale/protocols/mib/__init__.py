"""What a switch's tables mean: rows of standard MIBs in, ports with their states, VLANs, addresses and watts out. No sockets,
no clock.
"""
