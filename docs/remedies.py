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
            "name the file, or go to the directory that holds it",
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
            "ids and expectations may be others now",
            "run it again; a report of the old run needs the old spec",
        ),
        (
            "no case has an id that begins with …; keen-matrix unfold shows the ids",
            "an id follows from the words and what stands around the case: it is another when they are",
            "`keen-matrix unfold`, or `--only 'WORD'` in place of an id",
        ),
        ("several ids begin with …: …", "four characters do not always suffice", "give one more"),
        (
            "… is being written by another run, …; wait until it ends, or give this run its own journal with --journal",
            "two runs may not write one journal",
            "`run --journal other.jsonl`",
        ),
        (
            "… exists and is not a journal; it is left as it is: give --journal another name",
            "nothing of yours is overwritten",
            "give another name, or remove the file yourself",
        ),
    ],
    "A spec that cannot be read": [
        (
            "unknown key …",
            "a key with a slip in it would do nothing, so it is an error",
            "take the key that is proposed; [every key of a spec](reference-spec.md)",
        ),
        (
            "expected either line or steps",
            "a matrix says its words in one of two ways",
            '`line = "…"`; `line = ""` launches the program with no words',
        ),
        (
            '"…" is neither an axis nor a column here',
            "an expression names what this matrix does not have; NAMEs of a signature stand in `[expect]`, `[refusal]` and conditions of derived vectors",
            "correct the name; a brace that is no field is written `{{`, or `literal = true`",
        ),
        (
            'an f-string cannot be used in an expression',
            "expressions are a part of Python's",
            "join texts with `+` and `str(…)`, or put fields into the template itself",
        ),
        (
            "[refusal] needs a [signature], which says what must be refused",
            "`[refusal]` is about vectors that a usage line refuses",
            "state `[signature]`, or expect the refusal in a matrix: `expect.exit = 2`",
        ),
        ('two matrices are named "…"', "ids follow from the name", "name one of them otherwise"),
        (
            '"…" is the name of a derived family',
            "with a signature the families are matrices too",
            "give your matrix another name",
        ),
        (
            'the column "…" is not used anywhere',
            "a table has a column that no line and no expectation looks at",
            "use it, or remove it: `note` and `known` are used by themselves",
        ),
        (
            "expected exactly one source of values (…), …",
            "an axis has its values from one place",
            "make two axes, or one list",
        ),
        (
            "the oracle file … does not exist",
            "`[program] oracle` is a path beside the spec",
            "correct the name",
        ),
        (
            "no call can be made that this signature accepts",
            "the types, examples or conditions leave nothing",
            "give examples that are legal, or relax `where`",
        ),
        (
            "… is a … that must exist, but the spec provides none",
            "a value of type file or dir is to exist, and the case's directory is empty",
            '`[files]` with one, or `type = "path"`',
        ),
    ],
    "Nothing could be run": [
        (
            "the program cannot be launched: …",
            "the first launch word was not found, or may not be executed",
            "look at `[program] launch`: relative names go from the spec's directory as `{here}/…`, others are looked for in PATH",
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
            "the file of your functions has a fault",
            "run `python3 -m py_compile` on it",
        ),
        (
            "the journal … cannot be written: …",
            "the directory is not there, not writable, or full",
            "`--journal` elsewhere",
        ),
        (
            "clusters need an extra: python3 -m pip install 'keen-matrix[cluster]'",
            "Dask is not among what every installation needs",
            "install it as said, on the workers too",
        ),
        (
            "pictures need an extra: python3 -m pip install 'keen-matrix[plots]'",
            "matplotlib is not among what every installation needs",
            "install it as said, or write a page: `report --format html`",
        ),
    ],
    "What failed": [
        (
            "no crash",
            "a signal, or what a runtime prints of an unhandled error",
            'mend the program; `crash = "allowed"` where it is meant',
        ),
        (
            "an expectation that can be checked",
            "the expression behind it failed for this case; the reason stands beside it",
            "correct the expression; a NAME that is not given is None, `[]` or its default",
        ),
        (
            "the message does not name …",
            "a refusal does not say which word or NAME is to blame: remarked on, no failure",
            "mend the message, or `names-culprit = true` in `[refusal]` to make it one",
        ),
        (
            "the message to blame …",
            "it names another argument, and not the one to blame",
            'mend the message; `blame = "anything"` in `[refusal]` passes over it',
        ),
        (
            "none created, changed or deleted",
            "the program left files that no expectation names",
            'expect them in `files`, or `other-files = "allowed"`',
        ),
        (
            "passes again: remove its known",
            "a case that is known to differ passes now",
            "remove the `known`",
        ),
        (
            'help is printed on standard error; [help] stream = "stderr" accepts that, "stdout" rejects it',
            "remarked on: both are found among programs",
            "state which",
        ),
        (
            "the help lists …, which is not in the synopsis",
            "the usage line and the help do not agree",
            "add the option to the synopsis, or take it out of the help",
        ),
        (
            "it leaves …, which no word of the call names; tidy = true forbids it",
            "remarked on: a file that nobody asked for",
            "`tidy = true` in `[signature]` makes it a failure",
        ),
        (
            "it prints the control sign … to a pipe; tidy = true refuses it",
            "remarked on: colours where nobody sees them",
            "`tidy = true` makes it a failure",
        ),
    ],
    "What a run remarks on": [
        (
            "launched cold: …",
            "warm launches were asked for, and cannot be had",
            "the reason stands behind it; `--cold` asks for them to be left out",
        ),
        (
            "launched cold from here: … when it is launched warm",
            "a case did otherwise when it was forked from a keeper, so the rest is started anew",
            "`warm = false` in `[program]` spares the attempt",
        ),
        (
            "the case … differs in … when it is launched warm",
            "a sample was launched both ways, and did not do the same",
            "`warm = false`; often it is what a module does when it is imported",
        ),
    ],
    "Interruptions": [
        (
            "not begun: …",
            "an interruption ended a command before it came to these specs",
            "call it for them",
        ),
        (
            "interrupted before every case that shares this value had finished",
            "of an interrupted `fill` the cells are filled in whose vectors have come; what stands for others too is not",
            "call it again",
        ),
    ],
    "Results": [
        (
            "… exists and is not an earlier report; it is left as it is: give another name, or remove it first",
            "a report overwrites its own kind and nothing else",
            "give another name",
        ),
        (
            "there is no history yet: … is written by the first run",
            "history is kept beside the journal",
            "run once",
        ),
        (
            "… is not a history of Keen Matrix; it is left as it is",
            "another file has its name",
            "move it away",
        ),
    ],
    "Places": [
        (
            "no case could be traced to source lines",
            "no program of the run could be traced, or the traced launches ran no file of its own",
            "what is missing stands above it; [which runtimes](insight.md)",
        ),
        (
            "… does not count its lines; compile and link it with --coverage",
            "a C or C++ program tells its lines only when it was built for it",
            "`gcc --coverage`",
        ),
        (
            "… does not count its lines; build it with go build -cover (Go 1.20 or later)",
            "a Go program tells its lines only when it was built for it",
            "`go build -cover`",
        ),
    ],
}
