"""The whole document."""

from typing import TYPE_CHECKING, Annotated

from pydantic import BeforeValidator, Field

from keen_matrix.core.spec.document.base import one_or_more
from keen_matrix.core.spec.document.expectations import Expectations, MaskTable, ReferenceTable
from keen_matrix.core.spec.document.marks import KnownCases
from keen_matrix.core.spec.document.matrix import CheckedMatrix
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.surroundings import FilesTable
from keen_matrix.core.spec.document.tables import Table, lazy_table

if TYPE_CHECKING:
    from keen_matrix.core.spec.document.signature import HelpTable, RefusalTable, SignatureTable
else:  # loaded by a spec that has them
    HelpTable, RefusalTable, SignatureTable = (
        lazy_table(f"keen_matrix.core.spec.document.signature:{name}")
        for name in ("HelpTable", "RefusalTable", "SignatureTable")
    )


class SpecDocument(Table):
    """A spec: `NAME.matrix.toml`."""

    include: Annotated[list[str], BeforeValidator(one_or_more, json_schema_input_type=str | list[str])] = (
        Field(
            [],
            description="Files whose tables come first; keys of this file win, its matrices, masks and known "
            "differences are added.",
            examples=[["../shop.toml"]],
        )
    )
    program: ProgramTable = Field(
        description="The program under test.", examples=[{"launch": "python3 {here}/fare.py"}]
    )
    # Made when they are needed: a default that is made here would have the tables' validators made
    # each time this module is loaded.
    expect: Expectations = Field(
        default_factory=Expectations.model_construct,  # which needs no validator of its own
        description="What every case must do, unless a rule says otherwise.",
        examples=[{"exit": 0}],
    )
    refusal: RefusalTable | None = Field(
        None, description="What every case that the signature refuses must do.", examples=[{"exit": 2}]
    )
    help: HelpTable | None = Field(
        None,
        description="What every derived case that asks for help must do.",
        examples=[{"stream": "stdout"}],
    )
    signature: SignatureTable | None = Field(
        None,
        description="What the program says it accepts.",
        examples=[{"synopsis": "[-n,--riders RIDERS] ORIGIN"}],
    )
    files: FilesTable = {}
    mask: list[MaskTable] = Field(
        [],
        description="What varies, for all matrices.",
        examples=[[{"matches": "v[0-9.]+", "as": "<version>"}]],
    )
    known: list[KnownCases] = Field(
        [],
        description="Failures that are known, by ids of cases.",
        examples=[[{"ids": ["k3gmxq"], "because": "rounding, to be mended"}]],
    )
    reference: ReferenceTable | None = Field(
        None, description="A program that must do the same.", examples=[{"launch": "perl {here}/fare.pl"}]
    )
    matrix: list[CheckedMatrix] = Field([], description="The matrices.", examples=[[]])
