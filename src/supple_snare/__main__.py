"""Starts the program, as `python -m supple_snare` and as the installed command."""

import signal
import sys


def run() -> int:
    """Run the program; return its exit status.

    Loading the libraries takes a second: until then an interrupt ends the process at once, without a traceback.
    """
    handler = signal.signal(signal.SIGINT, signal.SIG_DFL)
    from supple_snare.cli import main

    signal.signal(signal.SIGINT, handler)
    return main()


if __name__ == "__main__":
    sys.exit(run())
