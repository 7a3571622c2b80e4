"""Lets `python -m supple_snare` start the program."""

import sys

from supple_snare.cli import main

if __name__ == "__main__":
    sys.exit(main())
