"""A spec with everything beside it as one archive, named by its content, to be unpacked on another
machine."""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import stat
import tarfile
import tempfile
from collections.abc import Iterator

from keen_matrix.core.errors import RunFault

#: Size of all files together; a larger directory is better shared by a file system.
MOST_BYTES = 512 * 1024 * 1024
LEFT_OUT = frozenset({".git", ".keen-matrix", "__pycache__", "node_modules", ".venv"})


def archive_of(directory: str) -> tuple[str, bytes]:
    """Return the digest and the bytes of an archive of a directory; hidden tool directories are
    left out. Raises RunFault."""
    stream = io.BytesIO()
    total = 0
    digest = hashlib.blake2b(digest_size=16)
    with tarfile.open(fileobj=stream, mode="w:gz", compresslevel=1) as archive:
        for path, name in _files(directory):
            with contextlib.suppress(FileNotFoundError):
                info = os.lstat(path)
                total += info.st_size
                if total > MOST_BYTES:
                    raise RunFault(
                        f"{directory} has more than {MOST_BYTES:,} bytes; --cluster-shared uses a "
                        f"shared file system"
                    )
                archive.add(path, arcname=name, recursive=False)
                digest.update(f"{name}\0{info.st_mode}\0{info.st_size}\0".encode("utf-8", "surrogateescape"))
                if stat.S_ISREG(info.st_mode):
                    with open(path, "rb") as file:
                        digest.update(hashlib.file_digest(file, "blake2b").digest())
                elif stat.S_ISLNK(info.st_mode):
                    digest.update(os.fsencode(os.readlink(path)))
    return digest.hexdigest(), stream.getvalue()


def _files(directory: str) -> Iterator[tuple[str, str]]:
    for root, directories, files in os.walk(directory):
        directories[:] = sorted(each for each in directories if each not in LEFT_OUT)
        for each in (*directories, *sorted(files)):
            path = os.path.join(root, each)
            yield path, os.path.relpath(path, directory)


def unpacked(digest: str, archive: bytes, home: str) -> str:
    """Return the directory below `home` that an archive is unpacked in, unpacking it when it is not
    there yet."""
    place = os.path.join(home, digest)
    if not os.path.isdir(place):
        half = tempfile.mkdtemp(prefix="unpacking-", dir=home)
        with tarfile.open(fileobj=io.BytesIO(archive), mode="r:gz") as tar:
            tar.extractall(half, filter="data") if hasattr(tarfile, "data_filter") else tar.extractall(half)
        os.rename(half, place)
    return place
