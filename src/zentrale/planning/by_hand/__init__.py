"""The network as a person types it into the pages of switches, in an order in which nobody cuts himself off."""
