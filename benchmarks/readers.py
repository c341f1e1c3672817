"""How the judge compares with the libraries that read argument words: acceptance, what is bound, exit status and stream.

    python benchmarks/readers.py [READER…]          judge and libraries side by side; what differs is shown
    SEED=18 python benchmarks/readers.py           other vectors
    python benchmarks/readers.py --keep FILE        and what libraries were asked and answered is kept, for the tests to replay

A library that is not installed is passed over. commander, yargs and minimist are found through NODE_PATH, typer by the
interpreter in READERS_PYTHON, Go by `go` (pflag in READERS_GOPATH), clap by the program that READERS_CLAP names, built from
readers/in_clap.
"""

from __future__ import annotations

import gzip
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from results import write_section

from keen_matrix import Signature
from keen_matrix.core.signature.judging.judge import is_among
from keen_matrix.core.signature.readers import READERS

HERE = Path(__file__).parent / "readers"
SIGNATURES, VECTORS = 24, 90
CHOICES = ["fast", "slow", "fair"]
TEXTS = {
    "int": ["3", "12", "007", "+3", "1_000", " 4", "0x10", "abc", "-5", "1e3"],
    "float": ["2.5", "3", "nan", "1e3", ".5", "abc", "-2.5"],
    "choice": [*CHOICES, "FAST", "sl", "fa"],
    "text": ["x", "a b", "", "-", "--", "-q", "-7", "x=y"],
    None: [""],
}
"""Values of each type, two plain ones first."""


def random_request(rng: random.Random) -> dict[str, Any]:
    """Return options, operands and vectors, as the libraries are asked."""
    letters = rng.sample("abcdefgnq", rng.randint(2, 4))
    words = rng.sample(["alpha", "beta", "color", "depth", "every", "force", "alter"], len(letters))
    options = []
    for at, (letter, word) in enumerate(zip(letters, words, strict=True)):
        spellings = [f"-{letter}", f"--{word}"] if at == 0 or rng.random() < 0.6 else [f"--{word}"]
        kind = [None, "int", "text", None, "choice", "float"][at if at < 3 else rng.randrange(6)]
        options.append(
            {
                "spellings": spellings,
                "name": f"V{at}",
                "type": kind,
                "of": CHOICES if kind == "choice" else [],
            }
        )
    operands = rng.choice([
        [], [["A", "one", "text"]], [["A", "one", "text"], ["B", "one", "int"]],
        [["A", "one", "text"], ["C", "optional", "text"]],
        [["A", "many", "text"]], [["A", "any", "text"]], [["A", "any", "text"]],
    ])  # fmt: skip
    request = {"options": options, "operands": operands, "exclusive": []}
    request["vectors"] = [random_vector(rng, options, operands) for _ in range(VECTORS)]
    return request


def random_vector(
    rng: random.Random, options: Sequence[dict[str, Any]], operands: Sequence[Sequence[str]]
) -> list[str]:
    """Return words: mostly sensible ones, and some that probe a habit."""
    words: list[str] = []
    for _ in range(rng.choice([0, 1, 1, 2, 2, 3])):
        option = rng.choice(options)
        spelling = rng.choice(option["spellings"])
        value = TEXTS[option["type"]]
        text = rng.choice(value[:2] if rng.random() < 0.75 else value)
        odd = rng.random()
        if odd < 0.6:
            words += [spelling] if option["type"] is None else [spelling, text]
        elif odd < 0.72:
            words.append(f"{spelling}={text}")
        elif odd < 0.8:
            words.append(f"{spelling}{text}")
        elif odd < 0.86:
            cut = (
                spelling[: rng.randint(3, max(3, len(spelling) - 1))]
                if len(spelling) > 3
                else spelling
            )
            words += [cut] if option["type"] is None else [cut, text]
        elif odd < 0.9:
            words.append(spelling)
        elif odd < 0.93:
            bare = spelling.lstrip("-")
            words.append(rng.choice([f"--no-{bare}", spelling.upper(), f"-{bare}", f"--{bare}"]))
        else:
            letters = [each["spellings"][0] for each in options if each["type"] is None]
            flags = [each[1] for each in letters if len(each) == 2]
            words.append(
                "-"
                + "".join(rng.sample(flags, len(flags)))
                + ("" if option["type"] is None else spelling[1:2])
            )
    count = (
        len([each for each in operands if each[1] in ("one", "many")])
        if rng.random() < 0.7
        else rng.randint(0, 3)
    )
    for at in range(count):
        kind = operands[min(at, len(operands) - 1)][2] if operands else "text"
        plain = rng.random() < 0.85
        usual = ["7", "12"] if kind == "int" else ["port", "x"]
        word = rng.choice(usual) if plain else rng.choice(["", "-", "-5", "abc", "a b", "-a b"])
        words.insert(rng.randint(0, len(words)) if rng.random() < 0.3 else len(words), word)
    if rng.random() < 0.15:
        odd_words = ["-z", "--nonesuch", "--nonesuch=3", "--", "--", "--", "-h", "--help"]
        words.insert(rng.randint(0, len(words)), rng.choice(odd_words))
    return words


def signature_of(request: dict[str, Any], reader: str | None, style: str = "") -> Signature:
    """Return the signature that a user would write."""
    parts, values = [], {}
    for option in request["options"]:
        name = f" {option['name']}" if option["type"] else ""
        parts.append(f"[{','.join(option['spellings'])}{name}]")
        if option["type"] == "choice":
            values[option["name"]] = {"of": option["of"]}
        elif option["type"] in ("int", "float"):
            values[option["name"]] = {"type": option["type"]}
    for name, count, kind in request["operands"]:
        parts.append(
            {"one": name, "optional": f"[{name}]", "many": f"{name}...", "any": f"[{name}...]"}[
                count
            ]
        )
        if kind == "int":
            values[name] = {"type": "int"}
    more: dict[str, Any] = {"reader": reader} if reader else {"style": style}
    if reader and not READERS[reader].help:  # the programs here know both
        more["help"] = [] if reader.startswith("getopt") else ["-h", "--help"]
    return Signature.from_synopsis(" ".join(parts) or "[--none]", values, **more)


# --- the libraries ---


def answers_of(reader: str, requests: Sequence[dict[str, Any]]) -> list[list[Any]] | None:
    """Return the answers of a library; None when it is not here."""
    lines = "\n".join(json.dumps(each) for each in requests) + "\n"
    node = {**os.environ, "NODE_PATH": os.environ.get("NODE_PATH", "")}
    if reader in ("argparse", "optparse", "click", "typer"):
        return _asked(
            [os.environ.get("READERS_PYTHON", sys.executable), str(HERE / "in_python.py"), reader],
            lines,
        )
    if reader in ("node-parseargs", "commander", "yargs", "minimist"):
        return _asked(["node", str(HERE / "in_node.js"), reader], lines, node)
    if reader.startswith("perl"):
        return _asked(["perl", str(HERE / "in_perl.pl"), reader], lines)
    if reader == "ruby-optparse":
        return _asked(["ruby", str(HERE / "in_ruby.rb")], lines)
    if reader == "go-flag":
        return _asked(["go", "run", str(HERE / "in_go.go")], lines)
    if reader == "go-pflag" and "READERS_GOPATH" in os.environ:
        env = {**os.environ, "GO111MODULE": "off", "GOPATH": os.environ["READERS_GOPATH"]}
        return _asked(["go", "run", str(HERE / "in_pflag.go")], lines, env)
    if reader == "clap" and "READERS_CLAP" in os.environ:
        return _from_clap(os.environ["READERS_CLAP"], requests)
    if reader in ("getopt-long", "getopt-posix"):
        return list(_from_c(reader, requests)) if shutil.which("cc") else None
    if reader == "getopts":
        return list(_from_shell(requests))
    return None


def _asked(
    words: list[str], lines: str, env: dict[str, str] | None = None
) -> list[list[Any]] | None:
    if shutil.which(words[0]) is None:
        return None
    done = subprocess.run(words, input=lines.encode(), capture_output=True, env=env)
    if done.returncode:
        print(done.stderr.decode()[-600:], file=sys.stderr)
        return None
    return [json.loads(line) for line in done.stdout.decode().splitlines()]


def _from_clap(program: str, requests: Sequence[dict[str, Any]]) -> list[list[Any]]:
    """Ask in_clap, which reads plain lines."""
    lines = []
    for request in requests:
        lines += ["\t".join(["O", each["name"], each["type"] or "", "\x1f".join(each["of"]), "\x1f".join(each["spellings"])])
                  for each in request["options"]]  # fmt: skip
        lines += ["\t".join(["P", *each]) for each in request["operands"]]
        lines += ["\t".join(["V", *words]) for words in request["vectors"]] + [""]
    done = subprocess.run(
        [program], input=("\n".join(lines) + "\n").encode(), capture_output=True, check=True
    )
    rows = iter(done.stdout.decode().splitlines())
    found = []
    for request in requests:
        kinds = {each["name"]: each["type"] for each in request["options"]} | {
            each[0]: each[2] for each in request["operands"]
        }
        answers = []
        for _ in request["vectors"]:
            status, stream, *pairs = next(rows).split("\t")
            named = {}
            for pair in pairs:
                name, *texts = pair.split("\x1f")
                values = [_of_kind(kinds[name], text) for text in texts]
                named[name] = values[0] if len(values) == 1 else values
            answers.append([int(status), stream, None if stream else named])
        found.append(answers)
    return found


def _of_kind(kind: str | None, text: str) -> Any:
    return (
        True
        if kind is None
        else int(text)
        if kind == "int"
        else float(text)
        if kind == "float"
        else text
    )


def _bound(rows: Sequence[tuple[str, str]], request: dict[str, Any]) -> list[Any]:
    """Return the answer of a program whose library leaves types and operands to it."""
    found: dict[str, Any] = {}
    rest = []
    for spelling, value in rows:
        if not spelling:
            rest.append(value)
            continue
        option = next(each for each in request["options"] if spelling in each["spellings"])
        found[option["name"]] = True if option["type"] is None else value
        if option["type"] == "choice" and value not in option["of"]:
            return [1, "stderr", None]
        if option["type"] in ("int", "float"):
            try:
                found[option["name"]] = _strict(option["type"], value)
            except ValueError:
                return [1, "stderr", None]
    operands = request["operands"]
    least = sum(count in ("one", "many") for _, count, _ in operands)
    most = 99 if any(count in ("many", "any") for _, count, _ in operands) else len(operands)
    if not least <= len(rest) <= most:
        return [1, "stderr", None]
    for at, (name, count, kind) in enumerate(operands):
        behind = sum(each[1] in ("one", "many") for each in operands[at + 1 :])
        try:
            if count == "one" or (count == "optional" and len(rest) > behind):
                word = rest.pop(0)
                found[name] = _strict("int", word) if kind == "int" else word
            elif count in ("many", "any"):
                taken, rest = rest[: len(rest) - behind], rest[len(rest) - behind :]
                found.update({name: taken} if taken else {})
        except ValueError:
            return [1, "stderr", None]
    return [0, "", found]


def _strict(kind: str, text: str) -> float:
    import re

    if not re.fullmatch(r"-?\d+" if kind == "int" else r"-?\d+(\.\d+)?", text, re.ASCII):
        raise ValueError
    return int(text) if kind == "int" else float(text)


def _from_c(reader: str, requests: Sequence[dict[str, Any]]) -> Iterator[list[Any]]:
    with tempfile.TemporaryDirectory() as directory:
        subprocess.run(["cc", "-o", f"{directory}/in_c", str(HERE / "in_c.c")], check=True)
        env = {**os.environ, **({"POSIXLY_CORRECT": "1"} if reader == "getopt-posix" else {})}
        for request in requests:
            short, long = "", []
            for option in request["options"]:
                takes = option["type"] is not None
                for spelling in option["spellings"]:
                    if spelling.startswith("--"):
                        long.append(f"{spelling[2:]}:{int(takes)}")
                    else:
                        short += spelling[1] + (":" if takes else "")
            answers = []
            for words in request["vectors"]:
                done = subprocess.run(
                    [f"{directory}/in_c", short, *long, "--", *words], capture_output=True, env=env
                )
                if done.returncode:
                    answers.append([2, "stderr", None])
                    continue
                rows = [tuple(line.split("\t", 1)) for line in done.stdout.decode().splitlines()]
                answers.append(_bound(rows, request))  # type: ignore[arg-type]
            yield answers


SCRIPT = """
while getopts :%s o; do case $o in [:?]) exit 2;; *) printf '%%s\\t%%s\\n' "-$o" "$OPTARG";; esac; done
shift $((OPTIND - 1)); for each do printf '\\t%%s\\n' "$each"; done
"""


def _from_shell(requests: Sequence[dict[str, Any]]) -> Iterator[list[Any]]:
    for request in requests:
        letters = ""
        for option in request["options"]:
            for spelling in option["spellings"]:
                if not spelling.startswith("--"):
                    letters += spelling[1] + (":" if option["type"] else "")
        answers = []
        for words in request["vectors"]:
            done = subprocess.run(["sh", "-c", SCRIPT % letters, "sh", *words], capture_output=True)
            if done.returncode:
                answers.append([2, "stderr", None])
                continue
            rows = [tuple(line.split("\t", 1)) for line in done.stdout.decode().splitlines()]
            answers.append(_bound(rows, request))  # type: ignore[arg-type]
        yield answers


def requests_for(reader: str) -> list[dict[str, Any]]:
    """Return what a library is asked: getopts has letters only."""
    rng = random.Random(int(os.environ.get("SEED", "17")))
    found = [random_request(rng) for _ in range(SIGNATURES)]
    if reader in ("getopts", "getopt-posix"):
        for request in found:
            request["options"] = [each for each in request["options"] if len(each["spellings"]) > 1]
            for option in request["options"]:
                option["spellings"] = option["spellings"][:1]
    return found


# --- comparing ---


def differences(
    reader: str,
    requests: Sequence[dict[str, Any]],
    answers: Sequence[list[Any]],
    counts: Counter[str],
    by: str | None,
) -> Iterator[str]:
    """Yield what the judge says otherwise than a library did."""
    for request, found in zip(requests, answers, strict=True):
        signature = signature_of(request, by, READERS[reader].style)
        for words, (status, stream, bindings) in zip(request["vectors"], found or [], strict=False):
            if status == 70:  # a fault of the library
                counts["library"] += 1
                continue
            judged = signature.judge(words)
            counts["all"] += 1
            what = f"{signature.lines[0]}: {words}: {status} {stream} {bindings}; judged {judged.status} "
            what += f"{' '.join(judged.kinds)} {judged.reasons[-1:]}"
            if judged.status == "unspecified":
                counts["open"] += 1
                if by:
                    yield "? " + what
                continue
            if (judged.status == "accepted") is not (status == 0):
                counts["wrong"] += 1
                yield "x " + what
                continue
            row = READERS[reader]
            own = all(is_among(each, row.refuses) for each in judged.refusals)
            if judged.status == "refused" and by and row.exit is not None and own:
                counts["promised"] += 1
                if (status, stream) != (row.exit, row.stream):
                    counts["broken"] += 1
                    yield "! " + what
            if judged.help and judged.status == "accepted" and by and row.help_stream is not None:
                counts["promised"] += 1
                if (status, stream) != (0, row.help_stream):
                    counts["broken"] += 1
                    yield "! " + what
            if judged.status == "accepted" and bindings is not None and not judged.help:
                counts["bound"] += 1
                mine = normal(names_of(signature, request, judged.bindings))
                if mine != normal({key.upper(): each for key, each in bindings.items()}):
                    counts["misbound"] += 1
                    yield "= " + what + f" bound {mine}"


def names_of(signature: Signature, request: dict[str, Any], bindings: Any) -> dict[str, Any]:
    """Return bindings by the names of the request, values converted."""
    found = {}
    for option in request["options"]:
        key = next((each for each in option["spellings"] if each in bindings), None)
        if key is not None:
            value = bindings[key]
            kind = signature.values.get(option["name"])
            if kind is not None and value is not True:
                value = (
                    [kind.converted(each) for each in value]
                    if isinstance(value, list)
                    else kind.converted(value)
                )
            found[option["name"]] = value
    for name, _, _ in request["operands"]:
        if name in bindings:
            value, kind = bindings[name], signature.values[name]
            found[name] = (
                [kind.converted(each) for each in value]
                if isinstance(value, list)
                else kind.converted(value)
            )
    return found


def normal(value: Any) -> Any:
    """Return bindings without what is only a way to show them."""

    def one(each: Any) -> Any:
        if isinstance(each, list):
            return one(each[0]) if len(each) == 1 else [one(inner) for inner in each]
        if isinstance(each, bool):
            return each
        if isinstance(each, float) and each != each:
            return "nan"
        return float(each) if isinstance(each, (int, float)) else each

    return {key: one(each) for key, each in value.items()}


def line_of(counts: Counter[str]) -> str:
    """Return what a comparison came to: right of what is said, open, bindings, exits and streams."""
    whole, spoken = max(counts["all"], 1), max(counts["all"] - counts["open"], 1)
    return (
        f"{whole} right {100 - 100 * counts['wrong'] / spoken:.1f} % open {100 * counts['open'] / whole:.1f} % "
        f"bound {counts['bound'] - counts['misbound']} of {counts['bound']} "
        f"promised {counts['promised'] - counts['broken']} of {counts['promised']}"
    )


def cells_of(counts: Counter[str]) -> list[str]:
    """Return the same as cells of a table."""
    whole, spoken = max(counts["all"], 1), max(counts["all"] - counts["open"], 1)
    bound, promised = counts["bound"], counts["promised"]
    return [
        f"{100 - 100 * counts['wrong'] / spoken:.1f} %",
        f"{100 * counts['open'] / whole:.1f} %",
        f"{100 - 100 * counts['misbound'] / max(bound, 1):.1f} %",
        f"{100 - 100 * counts['broken'] / promised:.1f} %" if promised else "–",
    ]


def main() -> None:
    """Compare, and keep the answers where that is asked for."""
    words = sys.argv[1:]
    keep = words.pop(words.index("--keep") + 1) if "--keep" in words else ""
    chosen = [each for each in words if each in READERS] or list(READERS)
    shown = int(os.environ.get("SHOWN", "12"))
    kept, rows = {}, []
    for reader in chosen:
        requests = requests_for(reader)
        answers = answers_of(reader, requests)
        if answers is None:
            print(f"{reader:26} not here")
            continue
        kept[reader] = answers
        counts: Counter[str] = Counter()
        told = list(differences(reader, requests, answers, counts, reader))
        without: Counter[str] = Counter()
        blind = list(differences(reader, requests, answers, without, None))
        print(f"{reader:26} {line_of(counts)}  | without reader: {line_of(without)}")
        rows.append(
            f"| {reader} | {' | '.join(cells_of(counts))} | {' | '.join(cells_of(without)[:2])} |"
        )
        for each in (told if "--blind" not in words else [one for one in blind if one[0] == "x"])[
            :shown
        ]:
            print("   ", each)
    if chosen == list(READERS) and "SEED" not in os.environ:
        write_section(
            "Readers",
            "python benchmarks/readers.py",
            [
                f"{SIGNATURES * VECTORS:,} vectors over {SIGNATURES} signatures that probe habits, given to each library and to",
                "the judge, with the reader named and without it. *Right* is of what is said, *open* of all vectors.",
                "",
                "| reader | right | open | bindings right | exits and streams right | without: right | without: open |",
                "|---|---|---|---|---|---|---|",
                *rows,
            ],
        )
    if keep:
        asked = {name: requests_for(name) for name in ("argparse", "getopts")}
        with gzip.GzipFile(keep, "wb", mtime=0) as file:
            file.write(
                json.dumps(
                    {"all": asked["argparse"], "letters": asked["getopts"], "answers": kept}
                ).encode()
            )


if __name__ == "__main__":
    main()
