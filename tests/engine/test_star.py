"""The star schema benchmark's questions, small: equal to hand-written SQL, in DuckDB and in Polars."""

from __future__ import annotations

from typing import Any

import duckdb
import polars as pl
import pytest

import relatum
from language import QUESTIONS, Request, open_model
from language import same as same_numbers
from star import QUERIES, WHOLE, Query, open_duckdb, open_polars, open_relatum, polars_query, same
from star_data import write_tables

Opened = tuple[relatum.Model, duckdb.DuckDBPyConnection, dict[str, pl.DataFrame]]


@pytest.fixture(scope="module")
def opened(tmp_path_factory: pytest.TempPathFactory) -> Opened:
    folder = tmp_path_factory.mktemp("star")
    write_tables(folder, 200_000)
    return open_relatum(folder), open_duckdb(folder), open_polars(folder)


@pytest.mark.parametrize("query", (*QUERIES, *WHOLE), ids=lambda query: query.name)
def test_a_question_has_the_same_answer_everywhere(opened: Opened, query: Query) -> None:
    model, connection, frames = opened
    assert same(query, model, connection, frames)
    theirs: list[tuple[Any, ...]] = polars_query(query, frames).rows()
    ours = query.ask(model).to_arrow().to_pylist()
    assert sorted(tuple(row.values()) for row in ours) == sorted((*row[:-1], row[-1] or None) for row in theirs)


def test_the_questions_find_rows(opened: Opened) -> None:
    model, _, _ = opened
    assert sum(query.ask(model).to_arrow().num_rows > 0 for query in QUERIES) >= 10


@pytest.fixture(scope="module")
def moving(tmp_path_factory: pytest.TempPathFactory) -> tuple[relatum.Model, duckdb.DuckDBPyConnection]:
    folder = tmp_path_factory.mktemp("moving")
    write_tables(folder, 150_000)
    return open_model(folder), open_duckdb(folder)


@pytest.mark.parametrize("question", QUESTIONS, ids=lambda question: question.name)
def test_a_formula_that_nests_or_moves_equals_its_sql(
    moving: tuple[relatum.Model, duckdb.DuckDBPyConnection], question: Request
) -> None:
    assert same_numbers(question, *moving)
