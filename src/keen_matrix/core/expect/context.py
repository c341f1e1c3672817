"""What the checks of one launch can look at beside its outcome."""

from __future__ import annotations

from collections.abc import Mapping

from keen_matrix.core.expect.masks import Mask
from keen_matrix.core.expressions import Scope
from keen_matrix.core.structs import Struct, field


class CheckContext(Struct):
    """What the checks of one launch know of its case."""

    #: What expressions see; often made when the first one looks.
    scope: Scope = field(default_factory=Scope)
    masks: tuple[Mask, ...] = ()
    #: Numbers of the masks that found something in a file; checks add to it.
    masks_used: set[int] = field(default_factory=set)
    #: What a message may name instead of the culprit.
    mentions: tuple[str, ...] = ()
    #: Names whose values are not known yet: what uses them is not checked.
    open_names: tuple[str, ...] = ()
    #: The file of baselines of the case's matrix.
    baselines: str = ""
    #: The case's id, under which its baselines stand.
    id: str = ""
    #: Where the program started: commands that expectations name are run there. Empty: in the
    #: spec's directory.
    directory: str = ""
    #: The environment of the launch; None: our own.
    env: Mapping[str, str] | None = None
    #: What the commands printed that expectations name. None: they are run. A table: nothing is
    #: run; of the outcome that is checked first, each is taken to have printed what was found.
    outputs: dict[tuple[str, ...], bytes] | None = None
