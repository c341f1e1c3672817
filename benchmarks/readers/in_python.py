"""Answers for argparse, optparse, click and typer: python in_python.py READER < requests > answers.

A request is a line of JSON, {"options", "operands", "exclusive", "vectors"}; an answer is a line of JSON, for each vector
[status, stream, bindings]: the exit status, where it wrote, and what was bound where the status is 0 and it was no help.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import optparse
import sys
from collections.abc import Callable
from typing import Any

TYPES: dict[str, Callable[[str], Any]] = {"int": int, "float": float, "text": str}


def argparse_of(request: dict[str, Any]) -> Callable[[list[str]], Any]:
    parser = argparse.ArgumentParser(prog="p")
    groups = {
        number: parser.add_mutually_exclusive_group() for number in range(len(request["exclusive"]))
    }
    for at, option in enumerate(request["options"]):
        owner = next(
            (groups[n] for n, pair in enumerate(request["exclusive"]) if at in pair), parser
        )
        if option["type"] is None:
            more: dict[str, Any] = {"action": "store_true"}
        elif option["type"] == "choice":
            more = {"choices": option["of"]}
        else:
            more = {"type": TYPES[option["type"]]}
        owner.add_argument(*option["spellings"], dest=option["name"], **more)
    for name, count, kind in request["operands"]:
        nargs = {"one": None, "optional": "?", "many": "+", "any": "*"}[count]
        parser.add_argument(name, nargs=nargs, type=TYPES[kind])  # type: ignore[arg-type]
    return lambda words: vars(parser.parse_args(words))


def optparse_of(request: dict[str, Any]) -> Callable[[list[str]], Any]:
    parser = optparse.OptionParser(prog="p")
    for option in request["options"]:
        if option["type"] is None:
            more: dict[str, Any] = {"action": "store_true"}
        elif option["type"] == "choice":
            more = {"type": "choice", "choices": option["of"]}
        else:
            more = {"type": "string" if option["type"] == "text" else option["type"]}
        parser.add_option(*option["spellings"], dest=option["name"], **more)

    def parse(words: list[str]) -> Any:
        found, operands = parser.parse_args(words)
        return {**vars(found), **bound(operands, request["operands"], parser.error)}

    return parse


def bound(
    words: list[str], operands: list[list[str]], error: Callable[[str], Any]
) -> dict[str, Any]:
    """Bind operands as a program does whose library leaves them to it."""
    least = sum(count in ("one", "many") for _, count, _ in operands)
    most = 99 if any(count in ("many", "any") for _, count, _ in operands) else len(operands)
    if not least <= len(words) <= most:
        error("wrong number of operands")
    found: dict[str, Any] = {}
    rest = list(words)
    for at, (name, count, kind) in enumerate(operands):
        behind = sum(each[1] in ("one", "many") for each in operands[at + 1 :])
        taken: Any
        if count == "one":
            taken = rest.pop(0)
        elif count == "optional":
            taken = rest.pop(0) if len(rest) > behind else None
        else:
            taken, rest = rest[: len(rest) - behind], rest[len(rest) - behind :]
        if kind == "int":
            try:
                taken = (
                    [int(each) for each in taken]
                    if isinstance(taken, list)
                    else None
                    if taken is None
                    else int(taken)
                )
            except ValueError:
                error("not a number")
        found[name] = taken
    return found


def click_of(request: dict[str, Any]) -> Callable[[list[str]], Any]:
    import click

    kinds = {"int": click.INT, "float": click.FLOAT, "text": click.STRING}
    params: list[click.Parameter] = []
    for option in request["options"]:
        more: dict[str, Any] = {"is_flag": True} if option["type"] is None else {}
        if option["type"] is not None:
            more["type"] = (
                click.Choice(option["of"]) if option["type"] == "choice" else kinds[option["type"]]
            )
        params.append(click.Option([option["name"], *option["spellings"]], **more))
    for name, count, kind in request["operands"]:
        many = count in ("many", "any")
        params.append(
            click.Argument(
                [name], nargs=-1 if many else 1, required=count in ("one", "many"), type=kinds[kind]
            )
        )
    found: dict[str, Any] = {}
    command = click.Command("p", params=params, callback=lambda **values: found.update(values))

    def parse(words: list[str]) -> Any:
        found.clear()
        command.main(words, prog_name="p")
        return dict(found)

    def main(words: list[str]) -> Any:
        try:
            return parse(words)
        except SystemExit as leaving:
            if leaving.code == 0 and found:
                return dict(found)
            raise

    return main


def typer_of(request: dict[str, Any]) -> Callable[[list[str]], Any]:
    import inspect

    import typer

    found: dict[str, Any] = {}

    def program(**values: Any) -> None:
        found.update(values)

    kinds = {"int": int, "float": float, "text": str}
    parameters = []
    for option in request["options"]:
        kind: Any = bool if option["type"] is None else kinds.get(option["type"], str)
        default: Any = False if option["type"] is None else None
        if option["type"] == "choice":
            import enum

            kind = enum.Enum("Choice", {each: each for each in option["of"]}, type=str)
        info = typer.Option(default, *option["spellings"])
        annotation = kind if option["type"] is None else kind | None
        parameters.append(
            inspect.Parameter(
                option["name"], inspect.Parameter.KEYWORD_ONLY, default=info, annotation=annotation
            )
        )
    for name, count, kind in request["operands"]:
        of = kinds[kind]
        annotation = (
            list[of] if count in ("many", "any") else of | None if count == "optional" else of
        )  # type: ignore[valid-type]
        info = typer.Argument(... if count in ("one", "many") else None)
        parameters.append(
            inspect.Parameter(
                name, inspect.Parameter.KEYWORD_ONLY, default=info, annotation=annotation
            )
        )
    program.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    program.__annotations__ = {each.name: each.annotation for each in parameters}
    app = typer.Typer(add_completion=False, pretty_exceptions_enable=False)
    app.command()(program)

    def main(words: list[str]) -> Any:
        found.clear()
        try:
            app(words, prog_name="p")
        except SystemExit as leaving:
            if leaving.code == 0 and found:
                return {key: getattr(each, "value", each) for key, each in found.items()}
            raise
        return dict(found)

    return main


READERS = {"argparse": argparse_of, "optparse": optparse_of, "click": click_of, "typer": typer_of}


def answer(parse: Callable[[list[str]], Any], words: list[str]) -> list[Any]:
    out, err = io.StringIO(), io.StringIO()
    status, found = 0, None
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            found = {
                key: each for key, each in parse(words).items() if each not in (None, False, [], ())
            }
        except SystemExit as leaving:
            status = leaving.code if isinstance(leaving.code, int) else 1
        except Exception:  # a fault of the library itself
            status = 70
    stream = "stderr" if err.getvalue() else "stdout" if out.getvalue() else ""
    return [status, stream, found]


def main() -> None:
    for line in sys.stdin:
        request = json.loads(line)
        parse = READERS[sys.argv[1]](request)
        print(json.dumps([answer(parse, words) for words in request["vectors"]]), flush=True)


if __name__ == "__main__":
    main()
