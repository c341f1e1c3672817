"""The family `elsewhere`: the same vector in other surroundings must do the same, and a program
whose output cannot be written must not say that all went well."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.model.relation import Relation, RelationName
from keen_matrix.core.signature.families import Making, Vector


class OtherSurroundings(NamedTuple):
    """Other surroundings: what a shell does before it starts the program."""

    #: Commands and, after the program's words, redirections; `exec` is between them.
    script: str
    redirection: str = ""


#: The launcher with which others are compared: through the same shell, and nothing else.
HERE = "elsewhere"
#: Stands in a script for a locale that the system has, one with a decimal comma if there is one.
FIELDS = "{locale}"
#: Name → surroundings. The last two are about output that cannot be written.
PLACES: Mapping[str, OtherSurroundings] = {
    "COLUMNS": OtherSurroundings("COLUMNS=40 LINES=10; export COLUMNS LINES;"),
    "LANG": OtherSurroundings(f"LANG={FIELDS} LC_ALL={FIELDS}; export LANG LC_ALL;"),
    "TZ": OtherSurroundings("TZ=Pacific/Kiritimati; export TZ;"),
    "HOME": OtherSurroundings('HOME="$TMPDIR"; export HOME;'),
    "umask": OtherSurroundings("umask 077;"),
    "directory": OtherSurroundings(
        'there="$TMPDIR/a näme with spaces"; mkdir "$there" && cp -R . "$there" && cd "$there" || exit 97;'
    ),
    "closed output": OtherSurroundings("", ">&-"),
    "full device": OtherSurroundings("", ">/dev/full"),
}
UNHEARD = ("closed output", "full device")


def launcher_of(place: str) -> str:
    """Return the name of the launcher that starts the program there."""
    return f"{HERE} {place}"


def vectors(making: Making) -> Iterator[Vector]:
    """Yield accepted vectors, each launched here and in one other place."""
    for builder in making.builders:
        requests = [each for each in (builder.fullest(), builder.smallest()) if each is not None]
        if not requests:
            continue
        # A program that prints nothing need not notice that nothing can be printed: of such a
        # vector that would be no question.
        printing = next((each for each in requests if each.words() not in making.grounds.silent), None)
        for place in PLACES:
            request = printing if place in UNHEARD else requests[0]
            if place in making.signature.depends_on or request is None:
                continue
            words = request.words()
            # modes of files follow the umask, and the other directory is not the case's own
            aspects = ("exit", "stdout", "stderr")
            name: RelationName = "unheard" if place in UNHEARD else "alike"
            relation = Relation(
                name=name, fresh=(True, True), launchers=(HERE, launcher_of(place)), aspects=aspects
            )
            yield Vector(
                words=words,
                more=(words,),
                variant=place,
                kind=place.replace(" ", "-"),
                culprit=place,
                relation=relation,
                control=builder.control(words),
            )
