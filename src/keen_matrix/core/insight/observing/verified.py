"""Whether a drafted signature explains what a program does: its derived cases are run, and must
pass."""

from __future__ import annotations

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.experiments.ask import Experiments, OutOfLaunches
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.launch.workers.engine import WorkerPool, run_in
from keen_matrix.core.model.record import PASSING
from keen_matrix.core.runs.grounding.controls import grounded, grounds_of
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.vectors.unfold import unfold

#: Launches for the controls of the derived cases.
MOST_CONTROLS = 300


def signature_explains(path: str, text: str, pool: WorkerPool) -> bool:
    """Tell whether every case that is derived from the signature of a spec passes, and there are
    some."""
    try:
        spec = load_spec(path, text)
        experiments = Experiments(spec, resolved_launch(spec), pool, lambda _: None, MOST_CONTROLS)
        spec = grounded(spec, grounds_of(spec, experiments))
        verdicts = [record.verdict for record in run_in(pool, unfold(spec), spec)]
    except (KeenMatrixError, OutOfLaunches):
        return False
    return bool(verdicts) and all(each in PASSING for each in verdicts)
