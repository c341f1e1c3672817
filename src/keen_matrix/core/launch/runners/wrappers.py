"""Commands that run another command and are no part of it: `env A=1`, `timeout 5`."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence

from keen_matrix.core.launch.runners.base import operand_at

#: Command → its options with a value, and how many operands it has before the other command.
WRAPPERS: Mapping[str, tuple[frozenset[str], int]] = {
    "env": (frozenset({"-u", "--unset", "-C", "--chdir"}), 0),
    "nice": (frozenset({"-n", "--adjustment"}), 0),
    "ionice": (frozenset({"-c", "-n"}), 0),
    "nohup": (frozenset(), 0),
    "setsid": (frozenset(), 0),
    "stdbuf": (frozenset({"-i", "-o", "-e", "--input", "--output", "--error"}), 0),
    "time": (frozenset({"-f", "-o"}), 0),
    "timeout": (frozenset({"-s", "--signal", "-k", "--kill-after"}), 1),
    "unbuffer": (frozenset(), 0),
    "xvfb-run": (frozenset({"-e", "-f", "-n", "-p", "-s", "-w"}), 0),
    "command": (frozenset(), 0),
    "exec": (frozenset({"-a"}), 0),
}
_ASSIGNMENT = re.compile(r"[A-Za-z_]\w*=")


def words_of_wrapper(words: Sequence[str]) -> int:
    """Return how many words in front are a wrapper's: 0 where there is none, or it runs nothing."""
    name = os.path.basename(words[0]) if words else ""
    if name not in WRAPPERS:
        return 0
    valued, operands = WRAPPERS[name]
    at = operand_at(words, 1, valued)
    at += at < len(words) and words[at] == "--"
    if name == "env":
        while at < len(words) and _ASSIGNMENT.match(words[at]):
            at += 1
    at += operands
    return at if at < len(words) else 0
