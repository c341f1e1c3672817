"""What most help texts have in common; it fits any."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout("general", marks=(r"",))
