"""A validated table of a spec, for what is below the document."""

from __future__ import annotations

from typing import Any, TypeAlias

#: A table with an attribute for each key that its kind knows. The kinds stand in
#: `core.spec.document`, which is made of the keys of forms and of sources of axes, so that these
#: cannot name them; the document's own checks have seen to the types of what they read.
Table: TypeAlias = Any
