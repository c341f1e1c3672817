"""Programs in sh that read their words as people expect it: one starts in a millisecond, an interpreter in thirty."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

PROGRAM = r"""
usage() { printf '%s\n' 'usage: @name [options] @operands'; }
wrong() { { usage; printf '@name: error: %s\n' "$1"; } >&2; exit 2; }
needs() { [ "$2" -gt 0 ] || wrong "argument $1: expected one argument"; case $3 in -[!0-9]*) wrong "argument $1: expected one argument" ;; esac; }
operand() { _at=$((_at + 1)); [ $_at -le @most ] || wrong "unrecognized arguments: $1"; eval "operand$_at=\$1"; }
_at=0 _only=
@functions
while [ $# -gt 0 ]; do
    _word=$1; shift
    [ -z "$_only" ] || { operand "$_word"; continue; }
    case $_word in
        --) _only=x ;;
        -h | --help) usage; printf '  %s\n' @help; exit 0 ;;
        @cases
        -?*) wrong "unrecognized arguments: $_word" ;;
        *) operand "$_word" ;;
    esac
done
[ $_at -ge @least ] || wrong "the following arguments are required: @operands"
@required
"""


def in_sh(
    options: Mapping[str, str], operands: tuple[str, int, int] = ("PORT", 1, 1), *, name: str = "fare", says: str = "echo ok",
    choices: Mapping[str, Sequence[str]] | None = None, whole: Collection[str] = (), exclusive: Sequence[tuple[str, str]] = (),
    required: Collection[str] = (),
) -> str:  # fmt: skip
    """Return a program.

    `options` has `-o,--output` to the NAME of its value, empty for a flag; `operands` is what they are called, and how many it takes at least and at most;
    `choices` and `whole` say by NAME what a value must be; `exclusive` and `required` name options by their long names. `says` is
    what it does with words that it accepts: `$output` is the value of an option, `$is_all` not empty where one was given,
    `$operand1` the first operand. Messages are as Python's argparse words them.
    """
    names = {each.split(",")[-1]: each.replace(",", "/") for each in options}
    functions, cases = [], []
    for each, value in options.items():
        long = each.split(",")[-1]
        others = [one if long == other else other for one, other in exclusive if long in (one, other)]
        checks = [f'[ -z "$is_{_key(other)}" ] || wrong "argument {names[long]}: not allowed with argument {names[other]}"' for other in others]
        if value in (choices or {}):
            of = (choices or {})[value]
            told = f"invalid choice: '$1' (choose from {', '.join(map(repr, of))})"
            checks.append(f'case $1 in {" | ".join(of)}) ;; *) wrong "argument {names[long]}: {told}" ;; esac')
        elif value and value in whole:
            checks.append(f"""case ${{1#[-+]}} in '' | *[!0-9]*) wrong "argument {names[long]}: invalid int value: '$1'" ;; esac""")
        body = "; ".join([*checks, f"is_{_key(long)}=x", *([f"{_key(long)}=$1"] if value else [])])
        functions.append(f"take_{_key(long)}() {{ {body}; }}")
        cases += _cases(each.split(","), names[long], bool(value))
    parts = {
        "@functions": "\n".join(functions), "@cases": "\n        ".join(cases), "@name": name,
        "@operands": operands[0], "@least": str(operands[1]), "@most": str(operands[2]),
        "@help": " ".join(f"'{each.replace(',', ', ')} {value}'" for each, value in options.items()) or "''",
        "@required": "\n".join(
            f'[ "$is_{_key(each)}" ] || wrong "the following arguments are required: {names[each]}"' for each in required
        ),
    }  # fmt: skip
    text = PROGRAM
    for mark, part in parts.items():
        text = text.replace(mark, part)
    return f"{text}{says}\n"


def _key(long: str) -> str:
    return long.lstrip("-").replace("-", "_")


def _cases(spellings: Sequence[str], told: str, has_value: bool) -> Iterator[str]:
    """Yield what is done with each spelling of an option."""
    long, take = spellings[-1], f"take_{_key(spellings[-1])}"
    either = " | ".join(spellings)
    short = spellings[0] if len(spellings) > 1 else ""
    if has_value:
        yield f'{either}) needs "{told}" $# "$1"; {take} "$1"; shift ;;'
        yield f'{long}=*) {take} "${{_word#*=}}" ;;'
        if short:
            yield f'{short}?*) {take} "${{_word#{short}}}" ;;'
    else:
        yield f"{either}) {take} ;;"
        yield f"{long}=*) wrong \"argument {told}: ignored explicit argument '${{_word#*=}}'\" ;;"
        if short:
            yield f'{short}?*) {take}; set -- "-${{_word#{short}}}" "$@" ;;'
