"""Work that takes devices down for a while: firmware, restore, restart. And the back-up before it."""
