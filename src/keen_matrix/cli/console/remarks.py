"""What a run says beside its failures: what was skipped, set aside, seen, and is worth a word."""

from __future__ import annotations

import argparse

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.results.tally import Tally
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import escape
from keen_matrix.wording.signs import STYLE_OF

#: Options that are set aside which a run names.
ASIDE_SHOWN = 8


def write_passed(screen: Screen, tally: Tally) -> None:
    """Write why cases were skipped or may differ, a line a reason."""
    for (verdict, reason), several in sorted(tally.passed.items(), key=lambda each: each[1].first):
        count, ids = several.count, several.ids
        shown = " ".join(each[:6] for each in ids) + (" …" if count > len(ids) else "")
        screen.line(
            "  ",
            (screen.sign(verdict), STYLE_OF[verdict]),
            f" {counted(count, 'vector')} {verdict}: {escape(reason)}   ",
            (shown, "place"),
        )


def _write_aside(screen: Screen, tally: Tally) -> None:
    """Write which options no derived vector has: where all held, they were not asked."""
    aside = tally.aside
    if not aside:
        return
    shown = ", ".join(aside[:ASIDE_SHOWN])
    left = len(aside) - ASIDE_SHOWN
    more = f" and {left} more" if left > 0 else ""
    count = counted(len(aside), "option")
    verb = "is" if len(aside) == 1 else "are"
    screen.line()
    screen.line(("left out", "warn"), f"   {count} {verb} in no derived case: {escape(shown)}{more}")


def _write_actions(screen: Screen, tally: Tally) -> None:
    """Write which options were seen to end the call by themselves."""
    grounds, signature = tally.spec.grounds, tally.spec.signature
    if grounds is None or signature is None:
        return
    keys = [key for form in grounds.forms for key in form.actions]
    spelt = {option.key: ",".join(option.spellings) for option in signature.options}
    if keys:
        told = f"   {' '.join(keys)}: accepted with an unknown option beside, so it ends the call by itself; "
        screen.line()
        screen.line(("remark", "warn"), told, "it is combined with nothing; to state it:")
        listed = ", ".join(f'"{spelt[key]}"' for key in keys)
        screen.line("  ", (f"actions = [{listed}]", "strong"))


def _write_unequal(screen: Screen, tally: Tally) -> None:
    """Write which values were seen to be refused for being the same."""
    pairs = tally.spec.grounds.unequal if tally.spec.grounds is not None else ()
    for names in pairs:
        from keen_matrix.core.signature.signature import unequal_condition

        told = f"   {' and '.join(names)}: refused with the same value, accepted with two; to state it:"
        screen.line()
        screen.line(("remark", "warn"), told)
        screen.line("  ", (f'where = ["{unequal_condition(names)}"]', "strong"))


#: Warnings of lint that a run shows of each spec.
WARNINGS_SHOWN = 4


def _write_warnings(screen: Screen, tally: Tally) -> None:
    """Write what lint warns of: a green run of a spec that does not check what it seems to is
    none."""
    from keen_matrix.core.spec.kept import kept_problems

    found = [each for each in kept_problems(tally.spec.path) if each.severity == "warning"]
    if not found:
        return
    screen.line()
    for each in found[:WARNINGS_SHOWN]:
        screen.line(("warning", "warn"), f"  {escape(each.message)}   ", (each.place, "dim"))
    left = len(found) - WARNINGS_SHOWN
    if left > 0:
        screen.line((f"  and {counted(left, 'more warning')}: keen-matrix lint", "dim"))


def write_remarks(screen: Screen, tally: Tally, options: argparse.Namespace) -> None:
    """Write what is worth a word though it is no failure."""
    _write_aside(screen, tally)
    _write_actions(screen, tally)
    _write_unequal(screen, tally)
    for each in tally.spec.grounds.varying if tally.spec.grounds is not None else ():
        screen.line()
        if each.pattern:
            screen.line(
                ("remark", "warn"),
                f"   {each.stream} varies by itself; it is masked where derived vectors are "
                "compared, and everywhere with",
            )
            mask = f'[[mask]]   matches = \'{each.pattern}\'   as = "<varies>"   in = ["{each.stream}"]'
            screen.line("  ", (escape(mask), "strong"))
        else:
            screen.line(
                ("remark", "warn"),
                f"   {each.stream} varies wholly from launch to launch, so derived vectors "
                "are not compared by it",
            )
    for text, several in sorted(tally.remarks.items(), key=lambda each: each[1].first):
        shown = " ".join(each[:6] for each in several.ids)
        screen.line()
        screen.line(("remark", "warn"), f"   {counted(several.count, 'vector')}: {text}   ", (shown, "place"))
    for sentence in tally.evidence.sentences():
        screen.line()
        screen.line(("not much checked  ", "warn"), escape(sentence))
    _write_warnings(screen, tally)
    whole = not (options.only or options.tag or options.failed or options.shard or options.stop_after)
    for pattern, origin in tally.idle_masks if whole else ():
        screen.line()
        screen.line(
            ("remark", "warn"), f"   the mask {pattern} found nothing in the whole run   ", (origin, "dim")
        )
