"""`python -m zentrale` is the same program as `zentrale`."""

from zentrale.cli.main import entry_point

if __name__ == "__main__":
    entry_point()
