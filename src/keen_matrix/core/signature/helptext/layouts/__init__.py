"""The layouts of help texts, one module each: what each is known by, and how it comes to the
general form."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts import (
    argparse,
    bsd,
    clap,
    click,
    commander,
    docopt,
    general,
    getopts,
    gnu,
    go_flag,
    go_pflag,
    pod,
    typer,
    yargs,
)
from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

#: Of two that fit equally well the first is taken.
LAYOUTS: tuple[HelpLayout, ...] = (
    argparse.LAYOUT,
    click.LAYOUT,
    typer.LAYOUT,
    docopt.LAYOUT,
    gnu.LAYOUT,
    getopts.LAYOUT,
    go_flag.LAYOUT,
    go_pflag.LAYOUT,
    clap.LAYOUT,
    commander.LAYOUT,
    yargs.LAYOUT,
    pod.LAYOUT,
    bsd.LAYOUT,
    general.LAYOUT,
)

__all__ = ["LAYOUTS", "HelpLayout"]
