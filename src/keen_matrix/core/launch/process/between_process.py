"""What the process between does: it starts one program in a session of its own, and tells how it
ended.

It is run by its file, with the number of a socket as its word, and needs nothing of ours. What the
program has in its words and its environment it gets by the socket: an interpreter may change its
own environment, and shows its words."""

import marshal
import os
import sys


def main() -> None:
    """Start what is asked for, wait for its end, and stay until nobody asks any more."""
    control = int(sys.argv[1])
    os.set_inheritable(control, False)
    size = int.from_bytes(_read(control, 8), "big")
    file, words, directory, env, plain = marshal.loads(_read(control, size))
    start = os.posix_spawn if os.sep in file else os.posix_spawnp
    try:
        os.chdir(directory)
        pid = start(file, words, env, setsid=True, setsigmask=(), setsigdef=plain)
    except OSError as error:
        os.write(control, b"f%d\n" % (error.errno or 0))
        return
    # What reads the program's output sees its end with the program's, and not with ours.
    nothing = os.open(os.devnull, os.O_RDWR)
    os.dup2(nothing, 1)
    os.dup2(nothing, 2)
    os.write(control, b"p%d\n" % pid)
    os.write(control, b"e%d\n" % _end_of(pid))
    os.read(control, 1)


def _read(control: int, size: int) -> bytes:
    raw = b""
    while len(raw) < size and (piece := os.read(control, size - len(raw))):
        raw += piece
    return raw


def _end_of(pid: int) -> int:
    """Wait for the end of a process, and return it as subprocess has it. Where the system allows it
    the process is left as it is: so long its number is nobody else's, and its group can be ended by
    it."""
    if not hasattr(os, "waitid"):  # macOS, before Python 3.13
        return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    found = os.waitid(os.P_PID, pid, os.WEXITED | os.WNOWAIT)
    if found is None:
        return 0
    return found.si_status if found.si_code == os.CLD_EXITED else -found.si_status


if __name__ == "__main__":
    main()
