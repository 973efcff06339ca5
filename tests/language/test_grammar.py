"""The grammar itself: strict LALR(1), keywords, spans."""

from __future__ import annotations

import os
import subprocess
import sys
from importlib import resources
from pathlib import Path

import pytest

from relatum.language.parse import parse_formula
from relatum.language.tree import Name, children
from relatum.model.names import KEYWORDS, column_name, split_name

STRICT = """
from importlib import resources
from relatum.language.grammar import build_parser
build_parser(resources.files("relatum.language").joinpath("grammar.lark").read_text(), strict=True)
print("strict")
"""


def test_the_grammar_is_strictly_lalr1() -> None:
    # The checker of colliding terminals is installed outside the environment, or lark would use it at every start.
    beside = Path(sys.prefix) / "strict"
    result = subprocess.run(
        [sys.executable, "-c", STRICT], capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(beside)}
    )
    assert result.stdout == "strict\n", result.stderr


def test_the_grammar_declares_every_keyword() -> None:
    grammar = resources.files("relatum.language").joinpath("grammar.lark").read_text("utf-8")
    declared = [line.lower().split()[1:] for line in grammar.splitlines() if line.startswith("%declare")]
    assert {word for words in declared for word in words} == KEYWORDS


@pytest.mark.parametrize("word", sorted(KEYWORDS))
def test_a_keyword_is_a_name_in_double_quotes(word: str) -> None:
    written = column_name("sales", word)
    assert written == f'sales."{word}"'
    assert split_name(written) == ("sales", word)
    node = parse_formula(written)
    assert isinstance(node, Name)
    assert node.parts == ("sales", word)


@pytest.mark.parametrize(
    "formula",
    [
        "sum(sales.quantity * price.unit_price) / 2",
        "case when a.b in (1, 2) then -a.c else null end",
        "a.b between 1 and 2",
    ],
)
def test_every_node_knows_its_stretch_of_text(formula: str) -> None:
    pending = [parse_formula(formula)]
    assert formula[pending[0].span.start : pending[0].span.stop] == formula
    while pending:
        node = pending.pop()
        for child in children(node):
            assert node.span.start <= child.span.start < child.span.stop <= node.span.stop
            pending.append(child)
