"""Trees of texts that were parsed before: the same as those of the parser, and never those of another program."""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

import pytest

from relatum.language import known_trees
from relatum.language.grammar import tree_of
from relatum.language.known_trees import KnownTrees
from relatum.runtime.paths import person_cache
from stars import random_case

TEXTS = [
    ("formula", "case when a.b in (1, -2.50, 1e300) then null else date '2024-02-29' end"),
    ("formula", "let n = count(distinct a.b), d = timestamp '2024-01-01 00:00:00' then n / 3 || 'ü ''x'''"),
    ("formula", "sum(a.b)[where a.c like '%x' over a, pin a.d in (true, 2), pin a.e is null, pin t is no match]"),
    ("formula", "m[ignoring axes, only a, via a.(b, c), both ways a.b, pin first a.day, year to date on cal]"),
    ("formula", "m[keep a.b where m > 1, keep top 3 a.b by m]"),
    ("formula", "growth(m over 1 year) + share(m of parent) + sum(m per a.b) + count(a)[trailing 3 month]"),
    ("formula", "m[whole quarter, before] + cast(a.b as decimal(2))"),
    ("condition", "a.b > 1 over a and not (c.d is null)"),
    ("axis", "a.b to c by m desc top 3 with others no total, x: a.d closed, a.e open ('x', -1, null, no match)"),
    ("values", "m format '0.0', twice: 2 * m, n on rows"),
    ("keeps", "keep top 2 a.b by m, keep a.c where m > 1"),
]


def test_a_tree_comes_back_as_it_was(tmp_path: Path) -> None:
    cases = [random_case(random.Random(seed)) for seed in range(60)]
    texts = [*TEXTS, *(("formula", text) for case in cases for text in (*case.formulas, *case.star.measures.values()))]
    trees = {(start, text): tree_of(text, start) for start, text in texts}
    writing = KnownTrees(tmp_path)
    for (start, text), tree in trees.items():
        writing.add(text, start, tree)
    writing.save()
    reading = KnownTrees(tmp_path)
    found = {(start, text): reading.find(text, start) for start, text in trees}
    assert found == trees
    assert reading.find("1 + 1", "formula") is None and reading.find(TEXTS[0][1], "condition") is None


def test_the_last_texts_are_kept_and_short_ones_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(known_trees, "_MOST", 3)
    for first in range(0, 6, 2):
        trees = KnownTrees(tmp_path)
        for text in (" " * 3000 + "7", "'\ud800'", "8 -- \ud800", str(first), str(first + 1)):
            trees.add(text, "formula", tree_of(text, "formula"))
        trees.save()
    kept = KnownTrees(tmp_path)
    assert [text for text in (*"0123457", " " * 3000 + "7") if kept.find(text, "formula")] == ["3", "4", "5"]


FOREIGN: dict[str, Callable[[Path], object]] = {
    "of another program": lambda path: path.write_bytes(path.read_bytes().replace(b"[(", b"[[", 1)),
    "cut short": lambda path: path.write_bytes(path.read_bytes()[:-9]),
    "of something else": lambda path: path.write_bytes(path.read_bytes().replace(b"Operation", b"Operetta!")),
    "a folder": lambda path: (path.unlink(), path.mkdir()),
}


@pytest.mark.parametrize("what", FOREIGN)
def test_a_file_that_is_not_ours_is_no_reason_to_stop(tmp_path: Path, what: str) -> None:
    trees = KnownTrees(tmp_path)
    trees.add("1 + 1", "formula", tree_of("1 + 1", "formula"))
    trees.save()
    (path,) = tmp_path.iterdir()
    FOREIGN[what](path)
    again = KnownTrees(tmp_path)
    assert again.find("1 + 1", "formula") is None
    again.add("1 + 2", "formula", tree_of("1 + 2", "formula"))
    again.save()
    assert (KnownTrees(tmp_path).find("1 + 2", "formula") is None) is (what == "a folder")
    nowhere = KnownTrees(None)
    nowhere.add("1 + 1", "formula", tree_of("1 + 1", "formula"))
    nowhere.save()
    assert nowhere.find("1 + 1", "formula") is None


def test_a_cache_folder_of_somebody_else_is_not_used(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    (tmp_path / "relatum").mkdir()
    (tmp_path / "relatum").chmod(0o777)
    assert person_cache() == tmp_path / "relatum"
    assert (tmp_path / "relatum").stat().st_mode & 0o777 == 0o755
    owner = os.getuid()
    monkeypatch.setattr(os, "getuid", lambda: owner + 1)
    assert person_cache() is None
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "relatum" / "file"))
    (tmp_path / "relatum" / "file").touch()
    assert person_cache() is None
