"""A network of namespaces, virtual cables and software switches on this machine, and real packets through it (Linux)."""
