"""What the process between does: it starts one program in a session of its own, and tells how it ended.

It is run by its file, and needs nothing of ours. What the program has in its words and its environment it
gets by the socket, not by its own: an interpreter may change the one and shows the other.
"""

import marshal
import os

CONTROL = 3


def main() -> None:
    """Start what is asked for, and wait for its end."""
    raw = b""
    while piece := os.read(CONTROL, 1 << 16):
        raw += piece
    file, words, folder, env, plain = marshal.loads(raw)
    os.set_inheritable(CONTROL, False)
    os.setsid()
    start = os.posix_spawn if os.sep in file else os.posix_spawnp
    try:
        os.chdir(folder)
        pid = start(file, words, env, setsid=True, setsigmask=(), setsigdef=plain)
    except OSError as error:
        os.write(CONTROL, b"f%d\n" % (error.errno or 0))
        return
    os.write(CONTROL, b"p%d\n" % pid)
    status = os.waitpid(pid, 0)[1]
    os.write(CONTROL, b"e%d\n" % os.waitstatus_to_exitcode(status))


if __name__ == "__main__":
    main()
