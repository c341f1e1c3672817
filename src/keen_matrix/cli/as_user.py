"""Doing everything as another user: a program that is tried with made-up words may do anything that
its user may."""

from __future__ import annotations

import os
import sys

from keen_matrix.cli.shared import remark
from keen_matrix.core.errors import Misuse


def become_user(name: str | None) -> None:
    """Go on as another user, with its groups and its HOME. Raises Misuse where that cannot be."""
    if name is None:
        return
    import pwd

    try:
        user = pwd.getpwnam(name)
    except KeyError:
        raise Misuse(f"--as-user: there is no user {name}") from None
    if os.geteuid() == user.pw_uid:
        return
    if os.geteuid() != 0:
        raise Misuse(f"--as-user: only root can become {name}")
    os.initgroups(name, user.pw_gid)
    os.setgid(user.pw_gid)
    os.setuid(user.pw_uid)
    os.environ.update(HOME=user.pw_dir, USER=name, LOGNAME=name)
    for path in (os.path.dirname(os.__file__), os.path.dirname(__file__), os.getcwd()):
        if not os.access(path, os.R_OK | os.X_OK):
            raise Misuse(f"--as-user: {name} cannot read {path}, which is needed")


def warn_of_root() -> None:
    """Say that made-up words are tried with all rights, where that is so."""
    if sys.platform != "win32" and os.geteuid() == 0:
        remark(
            "you are root, so the program may change anything on this machine; --as-user NAME tries it as "
            "another user"
        )
