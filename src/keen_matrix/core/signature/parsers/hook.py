"""Runs under the program's interpreter: writes the parser that it is about to parse with as JSON,
and ends the program there.

    python hook.py OUT file|module NAME [WORD...]

It stands alone: it imports nothing of ours, and nothing that a Python of 3.7 does not have. The
modules that make parsers are patched when the program imports them, whichever edition it brings;
nothing that comes after parsing runs, not even what is registered to run at the end.
"""

from __future__ import annotations

import importlib.abc
import json
import os
import runpy
import sys
from collections.abc import Iterator
from typing import Any

#: An object of a library that the program brings: nothing is known of it before it is looked at.
Foreign = Any
#: A part of the description: a dict of what JSON has.
Told = Any

#: Characters of a help text that are reported.
MOST_TEXT = 2000
#: Subcommands below subcommands that are described.
MOST_DEEP = 3


def json_text(value: Foreign) -> str:
    """Return a text for JSON, without what is no text at all (argparse.SUPPRESS,
    optparse.SUPPRESS_HELP, None)."""
    is_text = isinstance(value, str) and value not in ("==SUPPRESS==", "SUPPRESSHELP")
    return value[:MOST_TEXT] if is_text else ""


def plain_value(value: Foreign) -> Foreign:
    """Return a default as JSON has it; None for what it has not."""
    if isinstance(value, (bool, int, float)) or (isinstance(value, str) and value != "==SUPPRESS=="):
        return value
    return None


def write_and_end(described: Told) -> None:
    """Write the description and end the program. Nothing else of it runs."""
    with open(OUT, "w", encoding="utf-8", errors="surrogateescape") as file:
        json.dump(described, file)
    # Not sys.exit: nothing that is registered to run at the end may, and no handler of SystemExit.
    os._exit(0)


# --- types of values ---

#: Names of converters whose values are known -> the type in a spec. `bool` takes any text.
BY_CONVERTER = {"int": "int", "float": "float", "Decimal": "float", "Path": "path", "PosixPath": "path"}


def converter(function: Foreign) -> Told:
    """Return the type that a converting function of argparse or optparse gives, and its name where
    it is the program's own."""
    if function is None or function is str:
        return {"type": "text"}
    # By its name: the module may be a copy that the program brings.
    if type(function).__name__ == "FileType":
        mode = getattr(function, "_mode", "r")
        return {"type": "file" if "r" in mode else "path"}
    name = getattr(function, "__name__", type(function).__name__)
    if name == "fromisoformat" and getattr(getattr(function, "__self__", None), "__name__", "") == "date":
        return {"type": "date"}
    # A function of the program's own that is called int is another one.
    known = BY_CONVERTER.get(name) if getattr(function, "__module__", "") in KNOWN_MODULES else None
    return {"type": known} if known else {"converter": name}


KNOWN_MODULES = ("builtins", "decimal", "pathlib", "pathlib._local", None)


def with_choices(value: Told, choices: Foreign) -> Told:
    """Add what a value is chosen from: a range has bounds, anything else is listed."""
    if choices is None:
        return value
    # Sixty listed numbers would be right, and no bounds that anybody could read.
    if isinstance(choices, range) and len(choices) and abs(choices.step) == 1:
        value.update(min=min(choices), max=max(choices))
        return value
    try:
        listed = [
            plain_value(getattr(each, "value", each) if plain_value(each) is None else each)
            for each in choices
        ]
    except TypeError:  # a container that only tells what is in it
        return value
    if listed and None not in listed:
        value["of"] = listed
    return value


# --- argparse ---


def of_argparse(parser: Foreign, depth: int = 0) -> Told:
    """Return the description of an argparse.ArgumentParser."""
    argparse = sys.modules["argparse"]
    found: Told = {"options": [], "operands": [], "exclusive": [], "commands": [], "help": []}
    names = {}
    for action in parser._actions:
        if isinstance(action, argparse._HelpAction):
            found["help"] += action.option_strings
        elif isinstance(action, argparse._SubParsersAction):
            if depth < MOST_DEEP:
                found["commands"] = argparse_commands(action, depth)
                found["command-required"] = bool(action.required)
        elif action.option_strings and action.help == argparse.SUPPRESS and not action.required:
            pass  # hidden: its help does not promise it
        elif action.option_strings:
            option = argparse_option(argparse, action)
            # Groups name their members by identity, and actions have no other name that is surely
            # theirs.
            names[id(action)] = option["spellings"][0]
            found["options"].append(option)
        else:
            operand = argparse_operand(action)
            names[id(action)] = operand["name"]
            found["operands"].append(operand)
    for group in parser._mutually_exclusive_groups:
        members = [names[id(each)] for each in group._group_actions if id(each) in names]
        # A group of one excludes nothing; programs make them when options are added by condition.
        if len(members) > 1:
            found["exclusive"].append({"of": members, "required": bool(group.required)})
    # Whoever reads the draft has to know; a synopsis cannot say it.
    if parser.prefix_chars != "-":
        found["doubts"] = ["its options begin with one of " + parser.prefix_chars]
    if getattr(parser, "fromfile_prefix_chars", None):
        found.setdefault("doubts", []).append(
            f"words that begin with one of {parser.fromfile_prefix_chars} are read from a file"
        )
    if not getattr(parser, "allow_abbrev", True):
        found["abbreviations"] = False
    return found


def argparse_commands(action: Foreign, depth: int) -> list[Told]:
    """Return the subcommands, each with its other names."""
    texts = {each.dest: json_text(each.help) for each in action._choices_actions}
    by_parser: Told = {}
    for name, parser in action.choices.items():
        # Other names of a subcommand are further keys of the same parser.
        known = by_parser.setdefault(id(parser), {"name": name, "aliases": [], "parser": parser})
        if known["name"] != name:
            known["aliases"].append(name)
    return [
        {
            "name": each["name"],
            "aliases": each["aliases"],
            "text": texts.get(each["name"], ""),
            "parser": of_argparse(each["parser"], depth + 1),
        }
        for each in by_parser.values()
    ]


def argparse_counts(nargs: Foreign) -> tuple[int, int | None]:
    """Return how many words an action takes, at least and at the most; None for any number."""
    known: Told = {None: (1, 1), "?": (0, 1), "+": (1, None), "A...": (1, None)}
    return (nargs, nargs) if isinstance(nargs, int) else known.get(nargs, (0, None))


def argparse_value(action: Foreign) -> Told:
    """Return the type of an option's values, or of an operand."""
    value = with_choices(converter(action.type), action.choices)
    value["default"] = plain_value(action.default)
    return value


def argparse_option(argparse: Foreign, action: Foreign) -> Told:
    """Return an option; a flag with a --no- of its own is reported as both."""
    option: Told = {
        "spellings": list(action.option_strings),
        "required": bool(action.required),
        "text": json_text(action.help),
    }
    negating = getattr(argparse, "BooleanOptionalAction", None)
    if negating is not None and isinstance(action, negating):
        # It adds these on its own, and reads them as taking the flag back.
        option["negated"] = [each for each in action.option_strings if each.startswith("--no-")]
        option["spellings"] = [each for each in action.option_strings if each not in option["negated"]]
    if isinstance(action, argparse._VersionAction):
        option["action"] = True
    gathering = (argparse._AppendAction, argparse._CountAction, argparse._AppendConstAction)
    option["again"] = isinstance(action, gathering)
    least, most = argparse_counts(action.nargs)
    # Flags, counts and constants take no word.
    if most != 0:
        names = (
            action.metavar if isinstance(action.metavar, tuple) else [action.metavar or action.dest.upper()]
        )
        option.update(values=[json_text(each) for each in names], least=least, most=most)
        option["value"] = argparse_value(action)
    return option


def argparse_operand(action: Foreign) -> Told:
    """Return an operand."""
    least, most = argparse_counts(action.nargs)
    names = action.metavar if isinstance(action.metavar, tuple) else [action.metavar or action.dest]
    return {
        "name": json_text(names[0]),
        "least": least,
        "most": most,
        "text": json_text(action.help),
        "value": argparse_value(action),
        "rest": action.nargs in ("...", "A..."),
    }


# --- optparse ---


def of_optparse(parser: Foreign) -> Told:
    """Return the description of an optparse.OptionParser. It knows nothing of operands but what its
    usage line says."""
    found: Told = {"options": [], "help": [], "usage": json_text(parser.get_usage())}
    # Options of a group are in its own list only.
    groups = [parser, *parser.option_groups]
    for option in [each for group in groups for each in group.option_list]:
        spellings = list(option._short_opts) + list(option._long_opts)
        if option.action == "help":
            found["help"] += spellings
        elif option.help != "SUPPRESSHELP":  # hidden ones are no promise
            found["options"].append({"spellings": spellings, **optparse_option(parser, option)})
    if not parser.allow_interspersed_args:
        found["interleaved"] = False
    return found


OPTPARSE_TYPES = {"int": "int", "long": "int", "float": "float", "choice": "text", "string": "text"}


def optparse_option(parser: Foreign, option: Foreign) -> Told:
    """Return what is reported of an option beside its spellings."""
    told: Told = {
        "text": json_text(option.help),
        "action": option.action == "version",
        "again": option.action in ("append", "count", "append_const"),
    }
    if option.takes_value():
        kind = OPTPARSE_TYPES.get(option.type)
        value = {"type": kind} if kind else {"converter": str(option.type)}
        value = with_choices(value, option.choices)
        value["default"] = plain_value(parser.defaults.get(option.dest))
        name, many = option.metavar or (option.dest or "").upper(), option.nargs or 1
        told.update(values=[name], least=many, most=many, value=value)
    return told


# --- click, and typer which is made of it ---


def of_click(command: Foreign, context: Foreign, depth: int = 0) -> Told:
    """Return the description of a command of click or typer, whose context is `context`."""
    found: Told = {"options": [], "operands": [], "commands": [], "help": []}
    if getattr(command, "add_help_option", True):
        found["help"] = sorted(command.get_help_option_names(context), key=len)
    for parameter in command.params:
        if parameter.param_type_name == "argument":
            found["operands"].append(click_operand(parameter))
        elif is_click_help(parameter):
            # one that the program declares takes the place of click's own
            found["help"] += [each for each in parameter.opts if each not in found["help"]]
        elif not set(parameter.opts) & set(found["help"]) and not getattr(parameter, "hidden", False):
            found["options"].append(click_option(parameter))
    settings = getattr(command, "context_settings", None) or {}
    if settings.get("ignore_unknown_options") or getattr(command, "ignore_unknown_options", False):
        found["unknown-options"] = "operand"
    is_group = hasattr(command, "list_commands")
    if settings.get("allow_extra_args") and not is_group:
        found["superfluous-operands"] = "ignore"
    if settings.get("token_normalize_func"):
        found["doubts"] = ["its names are turned into others before they are looked up"]
    if is_group and depth < MOST_DEEP:
        found["command-required"] = not getattr(command, "invoke_without_command", False)
        found["commands"] = list(click_commands(command, depth, context))
    return found


def is_click_help(parameter: Foreign) -> bool:
    """Return whether an option asks for help: click.help_option makes one whose callback is its
    own."""
    callback = getattr(parameter, "callback", None)
    named = getattr(callback, "__name__", "") in ("show_help", "callback")
    return bool(
        parameter.is_eager
        and not parameter.expose_value
        and named
        and getattr(callback, "__module__", "").startswith("click")
        and not any(each.startswith("--version") for each in parameter.opts)
    )


def click_context(kind: Foreign, command: Foreign, name: str, above: Foreign = None) -> Foreign:
    """Return a context of a command with the settings that the command has for it."""
    settings = getattr(command, "context_settings", None) or {}
    return kind(command, parent=above, info_name=name, **settings)


def click_commands(group: Foreign, depth: int, context: Foreign) -> Iterator[Told]:
    """Yield the subcommands of a group, hidden ones aside."""
    for name in group.list_commands(context):
        below = group.get_command(context, name)
        if below is None or getattr(below, "hidden", False):
            continue
        # A context of its own, as click makes one: names of help and settings are inherited through
        # it.
        inner = click_context(type(context), below, name, context)
        yield {
            "name": name,
            "aliases": [],
            "text": json_text(below.get_short_help_str(300)),
            "parser": of_click(below, inner, depth + 1),
        }


CLICK_TYPES = {
    "IntParamType": "int",
    "FloatParamType": "float",
    "BoolParamType": "bool",
    "StringParamType": "text",
    "int": "int",
    "float": "float",
    "bool": "bool",
    "str": "text",
}


def click_value(parameter: Foreign) -> Told:
    """Return the type of a parameter. One that is the program's own is named."""
    described = getattr(parameter, "type_descriptor", None)
    value = typer_type(parameter, described) if described else click_type(parameter.type)
    default = parameter.default
    value["default"] = None if callable(default) else plain_value(getattr(default, "value", default))
    return value


def click_type(kind: Foreign) -> Told:
    """Return what a type of click takes: its classes are known by their names, whichever edition
    of click they are of."""
    # A program's own type is often one of click's with a check added; what it is below still tells
    # what it takes.
    names = {each.__name__ for each in type(kind).__mro__}
    if names & {"IntRange", "FloatRange"}:
        return click_range(kind, whole="IntRange" in names)
    if "Choice" in names:
        # of an enumeration, its names
        listed = [getattr(each, "name", each) for each in kind.choices]
        value = with_choices({"type": "text"}, listed)
        return {**value, "case": "exact" if kind.case_sensitive else "ignore"}
    if "File" in names:
        return {"type": "file" if "r" in kind.mode else "path"}
    if "Path" in names:
        return path_type(kind)
    if "DateTime" in names:
        return {"type": "date"} if "%Y-%m-%d" in kind.formats else {"converter": "datetime"}
    if "Tuple" in names:
        inner = [click_type(each) for each in kind.types]
        return inner[0] if inner and inner.count(inner[0]) == len(inner) else {"type": "text"}
    name = type(kind).__name__
    return {"type": CLICK_TYPES[name]} if name in CLICK_TYPES else {"converter": name}


def click_range(kind: Foreign, *, whole: bool) -> Told:
    """Return a range. One that is clamped takes every number."""
    value: Told = {"type": "int" if whole else "float"}
    # A number that is out of range is moved into it, and never refused.
    if getattr(kind, "clamp", False):
        return value
    for key, opened, step in (("min", "min_open", 1), ("max", "max_open", -1)):
        bound = getattr(kind, key)
        if bound is not None and getattr(kind, opened, False):
            bound = bound + step if whole else None  # of other numbers there is no next one
        if bound is not None:
            value[key] = bound
    return value


def path_type(kind: Foreign) -> Told:
    """Return the type of a path that has to exist, or may be anything."""
    if kind.exists and kind.file_okay:
        return {"type": "file", "directories": bool(kind.dir_okay)}
    return {"type": "dir" if kind.exists else "path"}


def typer_type(parameter: Foreign, described: Foreign) -> Told:
    """Return what a parameter of a typer that is not made of click any more takes."""
    info = described.parameter_info
    if described.choices is not None:
        value = with_choices({"type": "text"}, described.choices)
        return {**value, "case": "exact" if described.case_sensitive else "ignore"}
    if described.is_file:
        return {"type": "path" if "Write" in described.file_annotation.__name__ else "file"}
    if described.is_path:
        return path_type(info)
    if described.is_datetime:
        return {"type": "date"}
    inner = getattr(described.annotation, "__args__", None) or (described.annotation,)
    names = {getattr(each, "__name__", "") for each in inner}
    if len(names) > 1:
        return {"type": "text"}  # several values of different types
    name = names.pop()
    value = {"type": CLICK_TYPES[name]} if name in CLICK_TYPES else {"converter": name or "a type"}
    if value.get("type") in ("int", "float") and not info.clamp:
        value.update(min=parameter.min, max=parameter.max)
    return value


def click_option(option: Foreign) -> Told:
    """Return an option; spellings that switch a flag off are told apart."""
    found: Told = {
        "spellings": list(option.opts),
        "required": bool(option.required),
        "text": json_text(getattr(option, "help", "")),
        "negated": list(option.secondary_opts),
        "again": bool(option.multiple or option.count),
        "action": bool(option.is_eager and not option.expose_value),
    }
    if not (option.is_flag or option.count):
        many = option.nargs if option.nargs > 0 else 1
        optional = getattr(option, "_flag_needs_value", False)
        found.update(
            values=[option.metavar or option.name.upper()],
            least=0 if optional else many,
            most=many,
            value=click_value(option),
        )
    return found


def click_operand(operand: Foreign) -> Told:
    """Return an operand."""
    most = operand.nargs if operand.nargs > 0 else None
    return {
        "name": operand.metavar or operand.name.upper(),
        "most": most,
        "least": (most or 1) if operand.required else 0,
        "value": click_value(operand),
        "text": json_text(getattr(operand, "help", "")),
    }


# --- taking hold of the parser ---


def take_argparse(module: Foreign) -> None:
    """Have argparse describe the parser instead of parsing."""

    def parse_known_args(self: Foreign, *args: Foreign, **more: Foreign) -> None:
        described = of_argparse(self)
        # argparse itself calls this from parse_args; a program that does reads the rest on its own
        # Who calls it tells what the program does with the rest of the words.
        caller = sys._getframe(1).f_code.co_name
        if caller == "parse_known_intermixed_args":
            described["doubts"] = [
                *described.get("doubts", []),
                "options may come anywhere between its operands",
            ]
        elif caller != "parse_args":
            described["doubts"] = [
                *described.get("doubts", []),
                "the program itself reads what its parser does not know",
            ]
        write_and_end({"reader": "argparse", **described})

    module.ArgumentParser.parse_known_args = parse_known_args


def take_optparse(module: Foreign) -> None:
    """The same for optparse."""
    module.OptionParser.parse_args = lambda self, *args, **more: write_and_end(
        {"reader": "optparse", **of_optparse(self)}
    )


def take_click(module: Foreign) -> None:
    """The same for click: every way to call a command makes its context first."""

    def make_context(self: Foreign, *args: Foreign, **more: Foreign) -> None:
        # Made by hand and without words, so that no callback of the program's is called.
        context = click_context(module.Context, self, "program")
        reader = "typer" if type(self).__module__.startswith("typer.") else "click"
        write_and_end({"reader": reader, **of_click(self, context)})

    for name in ("BaseCommand", "Command"):
        if hasattr(module, name):
            getattr(module, name).make_context = make_context


#: Modules that make parsers -> what is done when a program has imported them.
TAKEN = {
    "argparse": take_argparse,
    "optparse": take_optparse,
    "click.core": take_click,
    "typer._click.core": take_click,
}


class PatchingFinder(importlib.abc.MetaPathFinder):
    """Patches such a module once it is imported."""

    def find_spec(self, name: str, path: Foreign = None, target: Foreign = None) -> Foreign:
        """Return the module's spec with a loader that patches what it loaded."""
        if name not in TAKEN:
            return None
        for finder in sys.meta_path:
            spec = (
                None
                # Itself left out, or it would ask itself for ever.
                if finder is self
                else getattr(finder, "find_spec", lambda *_: None)(name, path, target)
            )
            if spec is not None and spec.loader is not None:
                load = spec.loader.exec_module

                def exec_module(module: Foreign, load: Foreign = load, take: Foreign = TAKEN[name]) -> None:
                    load(module)
                    take(module)

                spec.loader.exec_module = exec_module
                return spec
        return None


def main() -> None:
    """Run the program up to the moment at which it parses."""
    global OUT
    OUT, kind, name = sys.argv[1:4]
    sys.meta_path.insert(0, PatchingFinder())
    for known, take in TAKEN.items():
        # A sitecustomize may have imported one before this file runs.
        if known in sys.modules:
            take(sys.modules[known])
    del sys.path[0]  # the directory of this file
    if kind == "module":
        sys.path.insert(0, "")
        sys.argv = [name, *sys.argv[4:]]
        runpy._run_module_as_main(name)  # type: ignore[attr-defined]  # as the interpreter's own -m does it
    else:
        sys.path.insert(0, os.path.dirname(os.path.abspath(name)))
        sys.argv = [name, *sys.argv[4:]]
        runpy.run_path(name, run_name="__main__")


OUT = ""
if __name__ == "__main__":
    main()
