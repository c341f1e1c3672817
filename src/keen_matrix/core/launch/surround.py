"""Putting a case's surroundings in place: its environment, its files, its standard input, all
filled in."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.launch.child import Start, Stopping
from keen_matrix.core.launch.dialogue import Answering
from keen_matrix.core.launch.directories import CaseDirectories
from keen_matrix.core.launch.environment import find_program
from keen_matrix.core.launch.trees import (
    copy_file,
    copy_inside,
    folder_inside,
    open_folder,
    open_new,
)
from keen_matrix.core.model.record import FileChange
from keen_matrix.core.model.spec import Put, Stdin, Surroundings

MOST_LISTED = 1_000
"""Files that are listed by name in a record; beyond, only their number is."""
COMPARED_BYTES = 65_536
"""Size up to which a file that was put in place is read to see whether it changed."""


class SurroundingsFault(Exception):
    """What a case should have around it could not be made."""


def environment_of(
    base: Mapping[str, str], around: Surroundings, scope: Scope, places: CaseDirectories
) -> dict[str, str]:
    """Return the environment of one launch. Raises ExpressionFault."""
    env = {**base, "HOME": places.home, "TMPDIR": places.tmp}
    if around.terminal is not None:
        env |= {"COLUMNS": str(around.terminal.columns), "LINES": str(around.terminal.rows)}
    for name, template in around.env:
        if template is None:
            env.pop(name, None)
        else:
            env[name] = template.render(scope)
    return env


def is_constant(around: Surroundings) -> bool:
    """Tell whether surroundings are the same for every case, so that what starts one starts all."""
    plain = around.stdin is None and not (around.terminal or around.dialogue or around.stop)
    return plain and all(
        template is None or template.constant is not None for _, template in around.env
    )


def start_of(
    file: str,
    words: tuple[str, ...],
    env: dict[str, str],
    directory: str,
    around: Surroundings,
    scope: Scope,
    here: str,
) -> Start:
    """Return how to start one launch. Raises ExpressionFault or SurroundingsFault."""
    if around.stdin is None and not (
        around.terminal or around.dialogue or around.stop
    ):  # by far the commonest
        return Start(file=file, words=words, env=env, directory=directory, timeout=around.timeout)
    stdin = around.stdin or Stdin()
    terminal, stop = around.terminal, around.stop
    moments = (("stdout", stop.when_stdout), ("stderr", stop.when_stderr)) if stop else ()
    return Start(
        file=file,
        words=words,
        env=env,
        directory=directory,
        timeout=around.timeout,
        stdin=_input(stdin, scope, here),
        closed=stdin.closed,
        silent=stdin.silent,
        chain=tuple(_command(words, scope, env, here) for words in stdin.chain),
        terminal=(terminal.columns, terminal.rows, terminal.stderr_apart) if terminal else None,
        dialogue=tuple(
            Answering(
                prompt=_bytes(each.prompt, scope),
                reply=_bytes(each.reply, scope),
                within=each.within,
            )
            for each in around.dialogue
        ),
        stop=Stopping(
            signal=stop.signal,
            after=stop.after,
            when=tuple(
                (stream, _bytes(text, scope)) for stream, text in moments if text is not None
            ),
        )
        if stop
        else None,
    )


def _bytes(template: Template, scope: Scope) -> bytes:
    return template.render(scope).encode("utf-8", "surrogateescape")


def _input(stdin: Stdin, scope: Scope, here: str) -> bytes:
    if stdin.text is not None:
        return _bytes(stdin.text, scope)
    if stdin.file is None:
        return b""
    path = os.path.join(here, stdin.file.render(scope))
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):
            raise SurroundingsFault(f"{path}, which should be standard input, is not a file")
        with open(path, "rb") as file:
            return file.read()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise SurroundingsFault(
            f"{path}, which should be standard input, cannot be read: {reason}"
        ) from None


def _command(
    words: tuple[Template, ...], scope: Scope, env: Mapping[str, str], here: str
) -> tuple[str, tuple[str, ...]]:
    rendered = tuple(word.render(scope) for word in words)
    file, reason = find_program(rendered[0], env.get("PATH"), here)
    if reason:
        raise SurroundingsFault(
            f"the command that feeds standard input cannot be launched: {reason}"
        )
    return file, rendered


def put_files(
    files: tuple[tuple[str, Put], ...], scope: Scope, places: CaseDirectories, here: str
) -> dict[str, Any]:
    """Put files in place and return what stands there now, to be compared after the launch.

    Raises ExpressionFault or SurroundingsFault.
    """
    if not files:
        return {}
    places.touched()
    work = places.open_work()
    try:
        for name, put in files:
            try:
                with folder_inside(work, name) as (folder, last):
                    _put_one(put, name, folder, last, scope, here)
            except (OSError, ValueError) as error:
                raise SurroundingsFault(
                    f"{name} could not be put in place: {_put_reason(error)}"
                ) from None
    finally:
        os.close(work)
    return snapshot(places.work)


def _put_reason(error: Exception) -> str:
    """Return why a file could not be put in place; what is written never goes through a link,
    which may lead outside."""
    if isinstance(error, OSError) and error.errno in (errno.ELOOP, errno.ENOTDIR):
        return "a link, or something else that is not a folder, is in the way"
    return getattr(error, "strerror", None) or str(error)


def _put_one(put: Put, name: str, folder: int, last: str, scope: Scope, here: str) -> None:
    """Put one thing under its last name in an open folder. Raises OSError, ExpressionFault,
    SurroundingsFault."""
    if put.link is not None:
        target = put.link.render(scope)
        inside = os.path.normpath(os.path.join(os.path.dirname(name), target))
        if os.path.isabs(target) or inside.split(os.sep)[0] == os.pardir:
            raise SurroundingsFault(f"the link to {target} leads out of the case's directory")
        os.symlink(target, last, dir_fd=folder)
        return
    if put.folder or put.copy is not None:
        _put_copy(
            None if put.copy is None else os.path.join(here, put.copy.render(scope)), folder, last
        )
    else:
        content = (
            put.data
            if put.data is not None
            else _bytes(put.text, scope)
            if put.text is not None
            else b""
        )
        with open(open_new(last, folder), "wb") as file:
            file.write(content)
    if put.mode is not None:
        fd = os.open(
            last, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=folder
        )
        try:
            os.fchmod(fd, put.mode)
        finally:
            os.close(fd)


def _put_copy(source: str | None, folder: int, last: str) -> None:
    """Put a copy of a file or folder beside the spec, or (None) an empty folder, under a name in
    an open folder."""
    if source is not None and not os.path.isdir(source):
        if not stat.S_ISREG(os.stat(source).st_mode):
            raise SurroundingsFault(f"{source} is not a file or folder that could be copied")
        with open(source, "rb") as file:
            copy_file(file.fileno(), last, folder)
        return
    with contextlib.suppress(FileExistsError):
        os.mkdir(last, 0o777, dir_fd=folder)
    if source is None:
        os.close(open_folder(last, folder))
        return
    reading = os.open(source, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        writing = open_folder(last, folder)
        try:
            os.fchmod(writing, stat.S_IMODE(os.fstat(reading).st_mode) | 0o300)
            copy_inside(reading, writing)
        finally:
            os.close(writing)
    finally:
        os.close(reading)


def snapshot(root: str) -> dict[str, tuple[Any, ...]]:
    """Return what stands below a directory: name → kind, size, mode, time, and the content of
    small files."""
    return dict(_seen_below(root, lambda entry: _state(entry.path)))


def _seen_below(
    root: str, see: Callable[[os.DirEntry[str]], tuple[Any, ...]]
) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """Yield the name of everything below a directory with what `see` makes of it.

    What is gone by then is passed over, and so is what stands in a folder that its program has
    locked.
    """
    folders = [root]
    while folders:
        with contextlib.suppress(OSError), os.scandir(folders.pop()) as entries:
            for entry in entries:
                with contextlib.suppress(OSError):
                    yield entry.path[len(root) + 1 :], see(entry)
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.path)


def _state(path: str) -> tuple[Any, ...]:
    info = os.lstat(path)
    kind = (
        "folder" if stat.S_ISDIR(info.st_mode) else "link" if stat.S_ISLNK(info.st_mode) else "file"
    )
    size = 0 if kind == "folder" else info.st_size
    content: Any = None
    if stat.S_ISREG(info.st_mode) and size <= COMPARED_BYTES:
        try:
            with open(path, "rb") as file:
                content = hash(file.read())
        except OSError:
            content = None
    elif kind == "link":
        content = os.readlink(path)
    when = 0 if kind == "folder" or content is not None else info.st_mtime_ns
    return kind, size, stat.S_IMODE(info.st_mode), when, content


def directory_state(root: str) -> dict[str, tuple[Any, ...]]:
    """Return what stands below a directory, to be compared with another: name → kind, size, mode,
    digest of the content.

    A file of more than STATE_BYTES is told by its size alone.
    """
    from hashlib import blake2b

    found: dict[str, tuple[Any, ...]] = {}
    for name, (kind, size, mode, _, _) in snapshot(root).items():
        digest = ""
        path = os.path.join(root, name)
        if kind == "link":
            digest = os.readlink(path)
        elif kind == "file" and stat.S_ISREG(os.lstat(path).st_mode) and size <= STATE_BYTES:
            try:
                with open(path, "rb") as file:
                    digest = blake2b(file.read(), digest_size=12).hexdigest()
            except OSError:
                digest = "unreadable"
        found[name] = (kind, size, f"{mode:o}", digest)
    return found


STATE_BYTES = 64 * 1024 * 1024


def file_changes(before: Mapping[str, tuple[Any, ...]], root: str) -> dict[str, FileChange]:
    """Return what a launch did to the files below a directory: name → state, kind, size in bytes,
    mode.

    Large files are not read: their size, mode and time tell. At most MOST_LISTED are listed by
    name; "…" counts the rest.
    """
    after = snapshot_light(root, before)
    changes: dict[str, FileChange] = {}
    left_out = 0
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old == new:
            continue
        if len(changes) >= MOST_LISTED:
            left_out += 1
        elif new is None:
            changes[name] = FileChange(state="deleted")
        else:
            state = "created" if old is None else "changed"
            differs = () if old is None else _difference(old, new)
            old_mode = f"{old[2]:o}" if old is not None and "mode" in differs else ""
            changes[name] = FileChange(state, new[0], new[1], f"{new[2]:o}", differs, old_mode)
    if left_out:
        changes["…"] = FileChange(state="more", count=left_out)
    return changes


def _difference(old: tuple[Any, ...], new: tuple[Any, ...]) -> tuple[str, ...]:
    """Return in what two states of one name differ: its kind, its content, its mode."""
    parts = (
        ("kind", old[0] != new[0]),
        ("content", (old[1], *old[3:]) != (new[1], *new[3:])),
        ("mode", old[2] != new[2]),
    )
    return tuple(name for name, differ in parts if differ)


def snapshot_light(root: str, before: Mapping[str, tuple[Any, ...]]) -> dict[str, tuple[Any, ...]]:
    """Return a snapshot in which only files that were there before are read."""
    if before:
        return snapshot(root)
    return dict(_seen_below(root, _glance))


def _glance(entry: os.DirEntry[str]) -> tuple[Any, ...]:
    info = entry.stat(follow_symlinks=False)
    is_folder = stat.S_ISDIR(info.st_mode)
    kind = "folder" if is_folder else "link" if stat.S_ISLNK(info.st_mode) else "file"
    return kind, 0 if is_folder else info.st_size, stat.S_IMODE(info.st_mode)
