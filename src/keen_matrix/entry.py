"""Where the command begins: nothing but what an interruption in its first moments needs."""

from __future__ import annotations

import signal
import sys
import types


def main() -> int:
    """Run the command line and return the exit status.

    Until the command is loaded an interruption ends it as it ends any program that has no handler:
    by the signal, silently.
    """
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    _pass_over_plugins()
    from keen_matrix.cli import main as run

    return run()


def _pass_over_plugins() -> None:
    """Have the validation library look for no plugins of its own.

    They would run in commands that run nothing, and to look for them takes as long as to read a
    spec (pydantic, "Plugins"). The variable that it has for that would be seen by the programs that
    are launched, and what reads the variable loads what looks for plugins all the same."""
    none = types.ModuleType("pydantic.plugin._loader")
    vars(none)["get_plugins"] = tuple
    sys.modules.setdefault(none.__name__, none)


if __name__ == "__main__":
    sys.exit(main())
