"""Where the command begins: nothing but what an interruption in its first moments needs."""

from __future__ import annotations

import os
import signal
import sys


def main() -> int:
    """Run the command line and return the exit status.

    Until the command is loaded an interruption ends it as it ends any program that has no handler:
    by the signal, silently.
    """
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    # What is installed beside us may have plugins for the validation library: to look for them takes as long as
    # to read a spec, and they would run in commands that run nothing (pydantic, "Plugins").
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    from keen_matrix.cli import main as run

    return run()


if __name__ == "__main__":
    sys.exit(main())
