"""Running cases on many machines: batches of them go to the workers of a Dask cluster, and their
results come back.

Dask sees to scheduling, to workers that die (a batch is then run elsewhere), and to cancelling.
Each worker keeps one pool of our own between batches. A batch is so large that it takes about two
seconds.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import pickle
import platform
import shutil
import tempfile
import threading
import time
from collections.abc import Generator, Iterable
from itertools import islice
from typing import TYPE_CHECKING, Any, TypeAlias

from keen_matrix.core import structs
from keen_matrix.core.errors import KeenMatrixError, Misuse, RunFault
from keen_matrix.core.launch.directories.archive import archive_of, unpacked
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.launch.workers.engine import Manner, WorkerPool
from keen_matrix.core.launch.workers.wire import ResultFrame
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import Struct, replace
from keen_matrix.core.version import VERSION

#: A ResultFrame as it travels.
PlainFrame: TypeAlias = tuple[int, int, int, float, bool, str, bytes]

if TYPE_CHECKING:
    from distributed import Client

BATCH_SECONDS = 2.0
FIRST_BATCH = 8
MOST_BATCH = 20_000
#: Batches that wait at each worker, so that it is never idle while results travel.
AHEAD = 2
#: How long a scheduler has to answer: one that is just being started, and a slow network, need
#: seconds; who misspelt the address waits for all of them.
REACH_SECONDS = 10.0


class Task(Struct, frozen=True, kw_only=True):
    """What a worker has to know of a spec: its archive or, on a shared file system, its
    directory."""

    digest: str
    name: str
    directory: str
    shared: bool
    #: Launch words instead of the spec's own, fields filled in except for {here}.
    launch: tuple[str, ...] = ()
    repeat: int = 1


LOCAL = "local"


def client_of(address: str) -> Client:
    """Return a client of a cluster: of the scheduler at an address, or of one started here for
    "local". Raises Misuse."""
    try:
        import dask
        from distributed import Client, LocalCluster
    except ImportError:
        raise Misuse("clusters need an extra: python3 -m pip install 'keen-matrix[cluster]'") from None
    # Workers that are daemons could not have processes of their own, which is all that they are
    # for.
    dask.config.set({"distributed.worker.daemon": False, "distributed.comm.timeouts.connect": "10s"})
    try:
        if address == LOCAL:
            # One worker in this process, whose pool launches as many at a time as there are jobs:
            # workers of their own would take seconds to start, and could do no more.
            scratch = tempfile.mkdtemp(prefix="keen-matrix-")
            atexit.register(shutil.rmtree, scratch, ignore_errors=True)
            # Else a directory of its own stays among the temporary files.
            dask.config.set({"temporary-directory": scratch})
            cluster = LocalCluster(
                n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None, silence_logs=50
            )
            return Client(cluster)
        return Client(address, timeout=REACH_SECONDS)
    except (OSError, TimeoutError, ValueError) as error:
        raise RunFault(f"the cluster {address} cannot be reached: {error}") from None


def close_client(client: Client) -> None:
    """Close a client, and the cluster when it was started for it."""
    cluster = client.cluster
    with contextlib.suppress(Exception):
        client.close(timeout=5)
    if cluster is not None:
        with contextlib.suppress(Exception):
            cluster.close(timeout=5)


class ClusterPool:
    """Runs the cases of one spec on a cluster. Used as a worker pool is: `results` yields a frame
    for every case."""

    def __init__(self, client: Client, *, shared: bool = False, own: WorkerPool | None = None) -> None:
        self.client, self.shared = client, shared
        #: The pool that the worker in this very process uses; None where workers are elsewhere.
        self.own = own
        self._task: Task | None = None
        self._archive: object = None
        self._here = ""

    def plan(self, spec: Spec, launch: tuple[str, ...], *, repeat: int = 1) -> None:
        """Send a spec to the workers. Raises RunFault when one has another version, or cannot
        start the program."""
        # A port or a directory that cases share is not one for machines that know nothing of each
        # other.
        if spec.program.jobs or any(each.bounds.jobs for each in spec.matrices):
            raise Misuse(
                f"{spec.path}: jobs limits how many of its launches run at a time, and a cluster ignores that"
            )
        if self.shared and not all(each.bounds.fresh_directory for each in spec.matrices):
            raise Misuse(
                f'{spec.path}: its cases share the directory of the spec (directory = "spec"), so '
                f"they run one at a time, "
                "and not on a cluster with a shared file system"
            )
        directory = spec.here
        shared = self.shared or self.own is not None
        # By its content: a worker that has unpacked it for an earlier run has it still.
        digest, archive = ("", b"") if shared else archive_of(directory)
        self._here = directory
        # Elsewhere the directory has another name; what is in it is the same.
        words = tuple(word.replace(directory, "{here}") for word in launch)
        self._task = Task(
            digest=digest,
            name=os.path.basename(spec.path),
            directory=directory,
            shared=shared,
            launch=words,
            repeat=repeat,
        )
        if self.own is not None:
            _POOL["pool"] = self.own
            _POOL["spec"] = (_key_of(self._task), spec)  # it need not be read, or built, again
        # Once to every worker, and not with each batch.
        self._archive = self.client.scatter(archive, broadcast=True) if archive else b""
        self._greet()

    def _greet(self) -> None:
        # Records of another version may have other fields, and would be wrong without a word.
        workers = self.client.run(version_of)
        # A scheduler without workers would take the cases, and keep them.
        if not workers:
            raise RunFault("the cluster has no workers")
        for address, version in sorted(workers.items()):
            if version != VERSION:
                raise RunFault(
                    f"the worker {address} has Keen Matrix {version or 'not at all'}, this is {VERSION}"
                )
        futures = [
            self.client.submit(
                prepare_cluster,
                self._task,
                self._archive,
                workers=[address],
                allow_other_workers=False,
                pure=False,
            )
            for address in workers
        ]
        for future, address in zip(futures, workers, strict=True):
            fault = future.result()
            if fault:
                raise RunFault(f"the worker {address}: {fault}")

    def results(self, cases: Iterable[Case]) -> Generator[ResultFrame, None, None]:
        """Yield a result for every case as batches come back; leaving early cancels what is still
        out."""
        from distributed import as_completed

        supply = iter(cases)
        pace, slots = 0.0, max(1, sum(self.client.nthreads().values()))
        running = as_completed(with_results=False)
        out: dict[object, object] = {}
        number = handed = 0
        try:
            while True:
                # More than there are slots for, so that no worker waits while its next batch
                # travels.
                while len(out) < slots * (1 + AHEAD):
                    batch = list(islice(supply, batch_size(pace, handed, slots)))
                    if not batch:
                        break
                    number, handed = number + 1, handed + len(batch)
                    # A key of our own: whoever looks at a shared scheduler sees whose tasks these
                    # are.
                    key = f"keen-matrix-{os.getpid()}-{id(self)}-{number}"
                    what = self._task, self._archive, self._here, pickle.dumps(batch)
                    future = self.client.submit(run_batch, *what, key=key, pure=False)
                    out[future.key] = future
                    running.add(future)
                if not out:
                    return
                future = next(running)
                out.pop(future.key)
                seconds, frames = future.result()
                if frames:
                    fresh = seconds / len(frames)
                    pace = fresh if not pace else pace + (fresh - pace) * 0.3
                for frame in frames:
                    yield ResultFrame(*frame)
        finally:
            if out:
                # A run that is left early must not keep a cluster busy with cases that nobody asks
                # for any more.
                self.client.cancel(list(out.values()))

    def close(self) -> None:
        """Have the workers end their pools."""
        if self.own is not None:
            _POOL.pop("pool", None)  # it is closed by whoever made it
        with contextlib.suppress(Exception):
            self.client.run(close_pool)


# --- what runs on a worker ---

#: This worker's pool and the specs that it has read, by task.
_POOL: dict[str, Any] = {}
#: Held while a batch runs: a pool is not closed under it.
_BUSY = threading.Lock()
#: Seconds that a batch has to end once its pool is given up.
GIVE_UP_SECONDS = 10.0


def version_of() -> str:
    """Return the version of Keen Matrix on a worker."""
    return VERSION


def close_pool() -> None:
    """End this worker's pool and remove what it unpacked. A batch that still runs, in another
    thread, is given up first."""
    if (running := _POOL.get("pool")) is not None:
        running.abandon()
    # Dask runs this beside a batch; to close a pool that launches would leave its programs behind.
    free = _BUSY.acquire(timeout=GIVE_UP_SECONDS)
    try:
        pool, home = _POOL.pop("pool", None), _POOL.pop("home", None)
        _POOL.clear()
        if pool is not None:
            pool.close()
        if home is not None:
            shutil.rmtree(home, ignore_errors=True)
    finally:
        if free:
            _BUSY.release()


def _home_here() -> str:
    """Return this worker's own directory for archives; it is removed after a run, and when the
    worker ends.

    It is in the worker's local directory, which Dask removes, also later when the worker was
    killed.
    """
    if "home" not in _POOL:
        from distributed import get_worker

        _POOL["home"] = tempfile.mkdtemp(
            prefix=".keen-matrix-spec-", dir=os.path.abspath(get_worker().local_directory)
        )
        atexit.register(shutil.rmtree, _POOL["home"], ignore_errors=True)
    return str(_POOL["home"])


def prepare_cluster(task: Task, archive: bytes) -> str:
    """Unpack, read and build a spec on a worker; return what is wrong, or nothing."""
    try:
        spec = _spec_of(task, archive)
        resolved_launch(spec)
    except KeenMatrixError as error:
        return str(error)
    return ""


def _key_of(task: Task) -> tuple[object, ...]:
    return task.digest, task.directory, task.name, task.launch


def _spec_of(task: Task, archive: bytes) -> Spec:
    key = _key_of(task)
    known = _POOL.get("spec")
    if known is not None and known[0] == key:
        return known[1]  # type: ignore[no-any-return]
    from keen_matrix.core.spec.compiling.tables import launch_templates
    from keen_matrix.core.spec.load import load_spec

    directory = task.directory if task.shared else unpacked(task.digest, archive, _home_here())
    spec = load_spec(os.path.join(directory, task.name))
    if task.launch:
        spec = replace(spec, program=replace(spec.program, launch=launch_templates(list(task.launch))))
    if spec.program.build:
        _build(spec)
    _POOL["spec"] = (key, spec)
    return spec


def _build(spec: Spec) -> None:
    """Build a spec's program once a worker, one after another where they share a directory. Raises
    RunFault."""
    import fcntl
    import subprocess

    from keen_matrix.core.expressions import Scope

    lock = os.open(spec.here, os.O_RDONLY)
    try:
        # On the directory itself: no file has to be made, and the lock goes with the process.
        fcntl.flock(lock, fcntl.LOCK_EX)
        words = [word.render(Scope({"here": spec.here})) for word in spec.program.build]
        done = subprocess.run(
            words, cwd=spec.here, stdin=subprocess.DEVNULL, capture_output=True, check=False
        )
        if done.returncode:
            tail = (done.stdout + done.stderr).decode("utf-8", "replace").splitlines()[-5:]
            raise RunFault(
                f"the build on {platform.node()} ended with exit {done.returncode}: {' / '.join(tail)}"
            )
    finally:
        os.close(lock)


def run_batch(task: Task, archive: bytes, here: str, batch: bytes) -> tuple[float, list[PlainFrame]]:
    """Launch the cases of a batch on a worker; return the seconds and the result frames as plain
    tuples."""
    with _BUSY:
        return _run_batch(task, archive, here, batch)


def _run_batch(task: Task, archive: bytes, here: str, batch: bytes) -> tuple[float, list[PlainFrame]]:
    started = time.monotonic()
    spec = _spec_of(task, archive)
    pool = _POOL.get("pool")
    if pool is None:
        pool = _POOL["pool"] = WorkerPool(1)
    # A plan is sent to all workers of the pool; between two batches of one run it is the same.
    if _POOL.get("planned") != (spec.path, task.launch, task.repeat):
        pool.plan(spec, resolved_launch(spec), Manner(repeat=task.repeat))
        _POOL["planned"] = (spec.path, task.launch, task.repeat)
    cases = (_moved(case, here, spec.here) for case in pickle.loads(batch))
    frames = [_home(tuple(frame), here, spec.here) for frame in pool.results(cases)]
    return time.monotonic() - started, frames


def _moved(case: Case, old: str, new: str) -> Case:
    """Return a case whose words name files in the spec's directory here instead of where they were
    unfolded."""
    if old == new or not any(old in word for words in (case.argv, *case.more) for word in words):
        return case
    # The directory has another name on each machine, and words may name files in it.
    moved = tuple(tuple(word.replace(old, new) for word in words) for words in (case.argv, *case.more))
    return structs.replace(case, argv=moved[0], more=moved[1:])


def _home(frame: PlainFrame, old: str, new: str) -> PlainFrame:
    """Return a frame whose record names the spec's directory as it is at home."""
    if old == new or new.encode() not in frame[-1]:
        return frame
    # A journal tells of the machine that it is read on, wherever its cases ran.
    return (*frame[:-1], frame[-1].replace(new.encode(), old.encode()))


def batch_size(pace: float, handed: int, slots: int) -> int:
    """Return how many cases the next batch gets, from the seconds that one takes (0: not known
    yet), the cases that were handed out before, and the batches that run at a time.

    None is larger than a part of what came before it: the last ones of a run are then no longer
    than the others can wait for."""
    if not pace:
        return FIRST_BATCH
    fair = max(FIRST_BATCH, handed // (2 * slots))
    return max(1, min(MOST_BATCH, fair, int(BATCH_SECONDS / pace)))
