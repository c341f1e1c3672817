"""Causes and remedies of messages, for the page of messages: group → rows of text, cause, remedy.

`…` stands for what a message fills in. Each text is looked for in the sources when the page is made: one that is
no longer said is a fault.
"""

from __future__ import annotations

from typing import TypeAlias

Rows: TypeAlias = list[tuple[str, str, str]]
REMEDIES: dict[str, Rows] = {
    "No spec, no journal, no such case": [
        (
            "no *… was found below this directory; name a spec, or try: keen-matrix demo",
            "specs are files whose names end in `.matrix.toml`, looked for in this directory and below",
            "name the file, or go to its directory",
        ),
        (
            "there is no journal …; a run writes one",
            "the command looks at results, and nothing was run here yet",
            "`keen-matrix run`, or `--journal FILE` for results elsewhere",
        ),
        (
            "… has no run of …; run it first",
            "the journal is of other specs",
            "`keen-matrix run SPEC`",
        ),
        (
            "… has changed since the run in …; run it again",
            "ids and expectations may have changed",
            "run it again; a report of the old run needs the old spec",
        ),
        (
            "no case has an id that begins with …; keen-matrix unfold shows the ids",
            "an id depends on the words and surroundings of the case, and changes with them",
            "`keen-matrix unfold`, or `--only 'WORD'` instead of an id",
        ),
        ("several ids begin with …: …", "four characters are not always enough", "give one more"),
        (
            "… is being written by another run, …; wait until it ends, or give this run its own journal with --journal",
            "two runs may not write one journal",
            "`run --journal other.jsonl`",
        ),
        (
            "… exists and is not a journal; it is left as it is: give --journal another name",
            "your files are never overwritten",
            "give another name, or remove the file yourself",
        ),
    ],
    "A spec that cannot be read": [
        (
            "unknown key …",
            "a misspelt key would have no effect, so it is an error",
            "use the suggested key; [every key of a spec](reference-spec.md)",
        ),
        (
            "expected either line or steps",
            "a matrix has its words in one of two ways",
            '`line = "…"`; `line = ""` runs the program without words',
        ),
        (
            '"…" is neither an axis nor a column here',
            "an expression uses a name that this matrix does not have; NAMEs of a signature are known in `[expect]`, `[refusal]` and conditions of derived cases",
            "correct the name; a brace that is no field is written `{{`, or `literal = true`",
        ),
        (
            'an f-string cannot be used in an expression',
            "expressions are a subset of Python's",
            "join texts with `+` and `str(…)`, or put fields into the template itself",
        ),
        (
            "[refusal] needs a [signature], which says what must be refused",
            "`[refusal]` is for calls that a usage line refuses",
            "write a `[signature]`, or expect the refusal in a matrix: `expect.exit = 2`",
        ),
        ('two matrices are named "…"', "ids follow from the name", "rename one of them"),
        (
            '"…" is the name of a derived family',
            "with a signature the families are matrices too",
            "give your matrix another name",
        ),
        (
            'the column "…" is not used anywhere',
            "no line and no expectation uses this column of a table",
            "use it, or remove it; `note` and `known` need no use",
        ),
        (
            "expected exactly one source of values (…), …",
            "an axis takes its values from one place",
            "make two axes, or one list",
        ),
        (
            "the oracle file … does not exist",
            "`[program] oracle` is a path beside the spec",
            "correct the name",
        ),
        (
            "no call can be made that this signature accepts",
            "the types, examples and conditions leave no call",
            "give legal examples, or relax `only-if`",
        ),
        (
            "… is a … that must exist, but the spec provides none",
            "a value of type file or dir must exist, but the case's directory is empty",
            '`[files]` with one, or `type = "path"`',
        ),
    ],
    "Nothing could be run": [
        (
            "the program cannot be launched: …",
            "the first launch word was not found, or is not executable",
            "look at `[program] launch`: a file beside the spec is `{here}/…`, any other name is looked up in PATH",
        ),
        (
            "the build ended with exit …, so nothing was run; its last lines:…",
            "`[program] build` must exit 0",
            "run it by hand in the spec's directory",
        ),
        (
            "the build cannot be run: …",
            "its first word was not found",
            "name it with its path, or install it",
        ),
        (
            "the oracle file … is not valid Python…: …",
            "the file of your functions has a mistake",
            "run `python3 -m py_compile` on it",
        ),
        (
            "the journal … cannot be written: …",
            "the directory does not exist, is not writable, or is full",
            "`--journal` elsewhere",
        ),
        (
            "clusters need an extra: python3 -m pip install 'keen-matrix[cluster]'",
            "Dask is an optional dependency",
            "install it, on the workers too",
        ),
        (
            "pictures need an extra: python3 -m pip install 'keen-matrix[plots]'",
            "matplotlib is an optional dependency",
            "install it, or write a page: `report --format html`",
        ),
    ],
    "What failed": [
        (
            "no crash",
            "a signal, or a runtime's report of an unhandled error",
            'fix the program, or write `crash = "allowed"` if it is meant',
        ),
        (
            "an expectation that can be checked",
            "its expression failed for this case; the reason is next to it",
            "correct the expression; a NAME without a value is None, `[]` or its default",
        ),
        (
            "the message does not name …",
            "a refusal does not name the culprit: a remark, no failure",
            "fix the message; `names-culprit = true` in `[refusal]` makes it a failure",
        ),
        (
            "the message to blame …",
            "it names another argument, and not the culprit",
            'fix the message, or allow it with `blame = "anything"` in `[refusal]`',
        ),
        (
            "none created, changed or deleted",
            "the program created files that no expectation names",
            'expect them in `files`, or `other-files = "allowed"`',
        ),
        (
            "a case marked as known passes now; remove the mark",
            "the known failure is fixed",
            "remove the `known`",
        ),
        (
            'help is printed on standard error; [help] stream = "stderr" accepts that, "stdout" rejects it',
            "a remark: programs do both",
            "say which",
        ),
        (
            "the help lists …, which is not in the synopsis",
            "the usage line and the help disagree",
            "add the option to the synopsis, or remove it from the help",
        ),
        (
            "it leaves …, which no word of the call names; tidy = true forbids it",
            "a remark: a file that the call did not ask for",
            "`tidy = true` in `[signature]` makes it a failure",
        ),
        (
            "it prints the control character … to a pipe; tidy = true refuses it",
            "a remark: colours where nobody sees them",
            "`tidy = true` makes it a failure",
        ),
    ],
    "What a run remarks on": [
        (
            "launched cold: …",
            "warm launches were asked for, but are impossible here",
            "the reason follows; `--cold` runs everything cold",
        ),
        (
            "launched cold from here: … when it is launched warm",
            "a case gave another result when it was forked, so the rest is run cold",
            "`warm = false` in `[program]` avoids the attempt",
        ),
        (
            "the case … differs in … when it is launched warm",
            "a sample was run both ways, and the results differ",
            "`warm = false`; often the cause is code that runs when a module is imported",
        ),
    ],
    "Interruptions": [
        (
            "not begun: …",
            "the command was interrupted before it reached these specs",
            "run the command for them",
        ),
        (
            "interrupted before every case that shares this value had finished",
            "an interrupted `fill` writes only values for which every case had finished",
            "run it again",
        ),
    ],
    "Results": [
        (
            "… exists and is not an earlier report; it is left as it is: give another name, or remove it first",
            "a report only replaces an earlier report",
            "give another name",
        ),
        (
            "there is no history yet: … is written by the first run",
            "the history is written by runs",
            "run once",
        ),
        (
            "… is not a history of Keen Matrix; it is left as it is",
            "another file has this name",
            "move it away",
        ),
    ],
    "Places": [
        (
            "no case could be traced to source lines",
            "no program of the run could be traced, or the traced launches ran none of its own files",
            "the lines above say what is missing; [which runtimes](insight.md)",
        ),
        (
            "… does not count its lines; compile and link it with --coverage",
            "a C or C++ program counts its lines only if it is built for it",
            "`gcc --coverage`",
        ),
        (
            "… does not count its lines; build it with go build -cover (Go 1.20 or later)",
            "a Go program counts its lines only if it is built for it",
            "`go build -cover`",
        ),
    ],
}
