"""`python -m chaff`: the command line."""

from chaff.cli.main import entry

if __name__ == "__main__":
    entry()
