"""A model after any edits says what a fresh one of the same declaration says. As a script: as many sequences as asked."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule, run_state_machine_as_test

import relatum
from stall import make_stall

FRAMES = {
    "sales": [
        {"pid": ["a", "a", "b", "x", None], "q": [1, 2, 4, 8, 16], "w": [0.5, 1.5, None, 2.0, 1.0]},
        {"pid": ["b", "b", "c"], "q": [10, 20, None], "w": [1.0, 2.0, 3.0]},
        {"pid": ["c"], "q": [7], "w": [0.25]},
    ],
    "product": [
        {"pid": ["a", "b", "c"], "kind": ["u", "v", "v"], "price": [3, 5, 7]},
        {"pid": ["a", "b", "c", "d"], "kind": ["u", None, "w", "w"], "price": [1, 1, 2, 9]},
    ],
    "kind": [{"kind": ["u", "v"], "family": ["F", "G"]}, {"kind": ["v", "w", "u"], "family": ["F", "F", "H"]}],
    "level": [{"level": [1, 2, 3, 6], "name": ["one", "two", "three", "six"]}],
}
TYPES = {"q": pa.int64(), "w": pa.float64(), "price": pa.int64(), "level": pa.int64()}
MEASURES = ("sum(sales.q)", "sum(sales.q * product.price)", "m1 + 1", "m2 * 2", "sum(product.d1)", "avg(m1 per product)", "max(product.d2)",
            "rank(m1 among product)", "m1[keep top 1 product by m2]", "sum(by_kind.n)", "coalesce(count(sales), 0)", "let x = m1 then x + m3",
            "sum(sales.e1)", "m3[ignoring product]", "count(distinct product.d1)", "sum(by_kind.e)")  # fmt: skip
COLUMNS = {
    "product": ("price * 2", "m1", "sum(sales.q)", "d2 + 1", "d1 + 1", "case when m2 > 3 then 1 else 2 end", "sum(by_kind.n)", "price",
                "m1[ignoring row]", "kind.d1", "1", "max(product.price)"),
    "sales": ("product.d1", "q + 1", "m1", "q * product.price", "product.d2"),
    "kind": ("sum(product.price)", "m2", "1"),
}  # fmt: skip
GRAINS = ("product.kind", "product.d1", "sales.pid", "kind.family")
FORMULAS = ("m1", "coalesce(count(sales), 0)", "sum(product.d1)", "sum(sales.q)", "m3")
LINKS = ("sales.pid -> product.pid", "product.kind -> kind.kind", "product.d1 -> level.level", "sales.e1 -> level.level", "by_kind.kind <-> kind.kind",
         "sales.pid -> by_kind.pid")  # fmt: skip


def frame(table: str, number: int) -> pa.Table:
    columns = FRAMES[table][number % len(FRAMES[table])]
    return pa.table({name: pa.array(values, TYPES.get(name, pa.string())) for name, values in columns.items()})


KEYS = {"product": "pid", "kind": "kind"}


def begin() -> relatum.Model:
    model = relatum.Model("state")
    for table in FRAMES:
        model.add_table(table, frame(table, 0), key=KEYS.get(table, ()))
    for link in LINKS[:2]:
        model.relate(link)
    model.measure("m1", "sum(sales.q)")
    model.derive("product", "d1", "m1")
    return model


def told(model: relatum.Model) -> dict[str, Any]:
    """Everything a model answers: values, or why there are none."""

    def ask(**request: Any) -> Any:
        try:
            grid = model.pivot(**request)
            return grid.to_arrow(totals=True).to_pylist(), sorted(note.text for note in grid.notes)
        except relatum.RelatumError as error:
            return str(error)

    said: dict[str, Any] = {}
    declaration = model.declaration
    for name in declaration.measures:
        said[name] = ask(rows="product.kind", values=f"v: {name}")
    for table, described in declaration.tables.items():
        for column in described.derived:
            said[f"{table}.{column}"] = ask(
                rows=f"{table}.{column}", values={"n": f"count({table})", "d": f"count(distinct {table}.{column})"}
            )
        for column in described.formulas:
            grain = described.per[0].split(".")[1]
            said[f"{table}.{column}"] = ask(rows=f"{table}.{grain}", values=f"v: max({table}.{column})")
    return said


class Edits(RuleBasedStateMachine):
    """Any edits in any order: a refused one changes nothing, and the model is what its declaration says."""

    def __init__(self) -> None:
        super().__init__()
        self.model = begin()

    def edit(self, action: Callable[[relatum.Model], object]) -> None:
        before = self.model.declaration
        try:
            action(self.model)
        except relatum.RelatumError:
            assert self.model.declaration == before

    @rule(name=st.sampled_from(("m1", "m2", "m3")), formula=st.sampled_from(MEASURES), repeat=st.booleans())
    def measure(self, name: str, formula: str, repeat: bool) -> None:
        there = name in self.model.declaration.measures
        self.edit(lambda m: m.measure(name, formula, unrelated="repeat" if repeat else "blank", replace=there))

    @rule(table=st.sampled_from(tuple(COLUMNS)), data=st.data())
    def derive(self, table: str, data: st.DataObject) -> None:
        formula = data.draw(st.sampled_from(COLUMNS[table]))
        name = data.draw(st.sampled_from(("d1", "d2") if table != "sales" else ("e1",)))
        there = name in self.model.declaration.tables[table].derived
        self.edit(lambda m: m.derive(table, name, formula, replace=there))

    @rule(grain=st.sampled_from(GRAINS), one=st.sampled_from(FORMULAS), other=st.sampled_from(FORMULAS))
    def derived_table(self, grain: str, one: str, other: str) -> None:
        there = "by_kind" in self.model.declaration.tables
        self.edit(lambda m: m.add_derived_table("by_kind", grain, {"n": one, "e": other}, replace=there))

    @rule(table=st.sampled_from(tuple(FRAMES)), number=st.integers(0, 2))
    def rows(self, table: str, number: int) -> None:
        self.edit(
            lambda m: m.add_table(
                table, frame(table, number), key=KEYS.get(table, ()), replace=table in m.declaration.tables
            )
        )

    @rule(link=st.sampled_from(LINKS), direction=st.sampled_from(("down", "both", "off")))
    def relate(self, link: str, direction: str) -> None:
        there = any(str(each) == link for each in self.model.declaration.relationships)
        self.edit(lambda m: m.relate(link, direction=direction, replace=there))

    @rule(data=st.data(), force=st.booleans())
    def remove(self, data: st.DataObject, force: bool) -> None:
        declaration = self.model.declaration
        names = [
            *declaration.measures,
            *map(str, declaration.relationships),
            *(f"{t}.{c}" for t, each in declaration.tables.items() for c in each.derived),
        ]
        if names:
            name = data.draw(st.sampled_from(names))
            self.edit(lambda m: m.remove(name, force=force))

    @rule(one=st.sampled_from(MEASURES), other=st.sampled_from(COLUMNS["product"]), number=st.integers(0, 1))
    def several(self, one: str, other: str, number: int) -> None:
        def edits(model: relatum.Model) -> None:
            with model.edits():
                model.measure("m2", one, replace="m2" in model.declaration.measures)
                model.derive("product", "d2", other, replace="d2" in model.declaration.tables["product"].derived)
                model.add_table("product", frame("product", number), key="pid", replace=True)

        if "product" in self.model.declaration.tables:
            self.edit(edits)

    @invariant()
    def a_fresh_model_says_the_same(self) -> None:
        fresh = relatum.Model.of(self.model.declaration, self.model._state.where())
        assert told(self.model) == told(fresh)


HURRIED = [HealthCheck.too_slow, HealthCheck.data_too_large]


def test_any_edits_leave_what_a_fresh_model_says() -> None:
    run_state_machine_as_test(
        Edits, settings=settings(max_examples=6, stateful_step_count=10, deadline=None, suppress_health_check=HURRIED)
    )


# -- causes, one by one ----------------------------------------------------------------------------------------------


def test_a_derived_column_follows_the_measure_that_it_uses() -> None:
    model = begin()
    assert model.evaluate("sum(product.d1)") == 7
    model.measure("m1", "10 * sum(sales.q)", replace=True)
    assert model.evaluate("sum(product.d1)") == 70


def test_derived_columns_are_in_the_order_of_what_they_need_through_measures() -> None:
    model = begin()
    model.derive("product", "zz", "price * 10")
    model.measure("s1", "sum(product.zz)")
    model.derive("product", "a", "s1 + 1")
    assert model.evaluate("sum(product.a)") == 153


def test_a_derived_table_follows_its_frame_and_keeps_members_whose_formula_has_a_value() -> None:
    model = begin()
    model.add_derived_table("by_pid", "product.pid", {"n": "coalesce(count(sales), 0)", "q": "sum(sales.q)"})

    def rows() -> list[tuple[object, ...]]:
        grid = model.pivot(rows="by_pid.pid", values="n: sum(by_pid.n), q: sum(by_pid.q)", totals=False)
        return [tuple(each.values()) for each in grid.to_arrow().to_pylist()]

    assert rows() == [("a", 2, 3), ("b", 1, 4), ("c", 0, None)]
    model.add_table("sales", frame("sales", 1), replace=True)
    assert rows() == [("a", 0, None), ("b", 2, 30), ("c", 1, None)]


def test_what_reads_no_column_follows_its_table() -> None:
    model = begin()
    assert model.evaluate("count(sales)") == 5
    model.add_table("sales", frame("sales", 1), replace=True)
    assert model.evaluate("count(sales)") == 3


def test_a_derived_table_by_a_column_that_is_null_throughout() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"k": pa.array([None, None], pa.string()), "q": [1, 2]}))
    model.add_derived_table("by_k", "t.k", {"q": "sum(t.q)"})
    assert model.evaluate("sum(by_k.q)") == 3


def test_a_relationship_that_closes_a_loop_through_a_derived_column_is_refused() -> None:
    model = begin()
    model.derive("sales", "e1", "q")
    model.relate("sales.e1 -> level.level")
    with pytest.raises(
        relatum.ModelError, match=r"sales\.e1 is worked out along sales\.e1 -> level\.level, which is made of it"
    ):
        model.derive("sales", "e1", "level.level", replace=True)
    assert model.evaluate("count(sales)[where level.name = 'one']") == 1


def test_a_derived_key_that_repeats_is_refused() -> None:
    model = begin()
    model.derive("level", "twice", "level * 2")
    model.relate("sales.q -> level.twice")
    with pytest.raises(relatum.ModelError, match="its keys are not unique"):
        model.derive("level", "twice", "1", replace=True)
    assert model.evaluate("count(sales)[where level.name = 'one']") == 1


def test_edits_together_are_checked_once_all_or_none() -> None:
    model = begin()
    before = model.declaration
    with pytest.raises(relatum.FormulaError, match="no measure nowhere"), model.edits():
        model.measure("late", "early + 1")
        model.measure("early", "sum(sales.q)")
        model.measure("wrong", "nowhere")
    assert model.declaration is before
    with model.edits():
        model.measure("late", "early + 1")
        model.measure("early", "sum(sales.q)")
        assert set(model.declaration.measures) == {"m1", "late", "early"}
        assert model.evaluate("m1") == 31, "what is asked meanwhile is answered from the state before"
        model.rename("early", "soon")
    assert model.evaluate("late") == 32 and "soon" in model.declaration.measures
    with pytest.raises(relatum.ModelError, match="cannot be nested"), model.edits(), model.edits():
        pass


def test_threads_take_turns_and_lose_no_edit() -> None:
    model = make_stall()
    errors: list[Exception] = []

    def edit(thread: int) -> None:
        try:
            for number in range(40):
                model.measure(f"t{thread}_{number}", f"quantity + {number}")
        except Exception as error:
            errors.append(error)

    def ask() -> None:
        try:
            for _ in range(60):
                assert model.pivot(rows="product.kind", values="quantity").result.cells[-1].values[0].values[0] == 15
        except Exception as error:
            errors.append(error)

    threads = [
        *(threading.Thread(target=edit, args=(number,)) for number in range(6)),
        *(threading.Thread(target=ask) for _ in range(3)),
    ]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert not errors
    assert len(model.declaration.measures) == 3 + 6 * 40
    assert model.evaluate("t5_39") == 15 + 39


if __name__ == "__main__":
    run_state_machine_as_test(
        Edits,
        settings=settings(
            max_examples=int(sys.argv[1]),
            stateful_step_count=6,
            deadline=None,
            database=None,
            suppress_health_check=HURRIED,
        ),
    )
    print(f"{sys.argv[1]} sequences, 0 differ")
