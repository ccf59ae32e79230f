"""The stand-in site: cameras and a recorder that speak the real protocols, each on its own loopback address."""
