"""What a live page asks and is told: every message, by the same host that a browser and a notebook have."""

from __future__ import annotations

import base64
import io
import json
import shlex
import shutil
import threading
import time
import tomllib
from pathlib import Path
from typing import Any

import msgspec
import openpyxl
import pyarrow as pa
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum
from relatum.cli.main import app
from relatum.face.live_model import LiveModel
from relatum.model.declaration import EngineChoice
from relatum.present.charts.painter import painter
from relatum.present.pictures import picture_bytes
from relatum.view.host import Host, first_request
from relatum.view.protocol import Call, Parts, Reply, Stop, call_of
from relatum.view.sentence import (
    NO_MATCH,
    NULL,
    Choice,
    condition_of,
    parts_of,
    read_text,
    request_of,
    text_of,
    words_of,
)

ASKED = {"rows": ["category.department by revenue desc", "category.category closed"], "columns": ["calendar.year"],
         "values": ["revenue", "share: share(revenue of column)"]}  # fmt: skip


class Talk:
    """A page without a browser: messages as plain values, answers as JSON has them."""

    def __init__(self, model: relatum.Model, path: Path | None = None, *, editable: bool = True) -> None:
        self.live = LiveModel(model, path, editable=editable)
        self.host = Host(self.live)
        self.number = 0

    def reply(self, kind: str, **parts: Any) -> dict[str, Any]:
        self.number += 1
        call = call_of({"number": self.number, "message": {"kind": kind, **parts}})
        reply = json.loads(msgspec.json.encode(self.host.answer(call)))
        assert reply["number"] == self.number
        return reply

    def ask(self, kind: str, **parts: Any) -> Any:
        reply = self.reply(kind, **parts)
        assert "fault" not in reply, reply
        return reply["answer"]

    def fault(self, kind: str, **parts: Any) -> dict[str, Any]:
        return self.reply(kind, **parts)["fault"]


@pytest.fixture(scope="module")
def talk(nursery: relatum.Model) -> Talk:
    return Talk(nursery)


@pytest.fixture
def own(hollowmere: Path, tmp_path: Path) -> Talk:
    """The demo in a folder that a test may change."""
    folder = tmp_path / "own"
    shutil.copytree(hollowmere.parent, folder)
    path = folder / hollowmere.name
    return Talk(relatum.open(path), path)


# -- grids ------------------------------------------------------------------------------------------------------------


def cells_of(talk: Talk, answer: dict[str, Any]) -> list[list[str | None]]:
    shown = answer["shown"]
    rows, columns = len(shown["rows"]), len(shown["columns"])
    block = talk.ask("block", grid=answer["grid"], rows=[0, rows], columns=[0, columns])
    texts = iter(block["texts"])
    return [[next(texts) for _ in range(columns)] for _ in range(rows)]


def test_a_grid_comes_head_first_and_block_by_block(talk: Talk, nursery: relatum.Model) -> None:
    answer = talk.ask("ask", request=ASKED)
    whole = cells_of(talk, answer)
    where = f"category.department = '{answer['shown']['rows'][0]['t']}' and calendar.year = 2022"
    assert whole[0][0] == f"€{nursery.evaluate('revenue', where):,.0f}"
    for top, left in ((0, 0), (2, 1), (1, 3)):
        block = talk.ask("block", grid=answer["grid"], rows=[top, top + 3], columns=[left, left + 2])
        assert block["texts"] == [text for line in whole[top : top + 3] for text in line[left : left + 2]]
    assert "no such cells" in talk.fault("block", grid=answer["grid"], rows=[0, 999], columns=[0, 1])["reason"]
    assert "no longer kept" in talk.fault("block", grid=999, rows=[0, 1], columns=[0, 1])["reason"]


@pytest.mark.parametrize("on", ["rows", "columns"])
def test_the_cells_are_those_that_the_shell_prints(talk: Talk, nursery: relatum.Model, on: str) -> None:
    asked = {
        "rows": ["category.department", "category.category"],
        "columns": ["calendar.year"],
        "values": ["revenue", "orders"],
    }
    answer = talk.ask("ask", request={**asked, "values_on": on})
    table = [line for line in cells_of(talk, answer) if any(line)]
    printed = nursery.pivot(**asked, values_on=on).to_text(400)
    assert all(text is None or text in printed for line in table for text in line) and len(table) > 20


def test_the_words_of_a_request_are_apart_and_its_forms_say_the_same(
    talk: Talk, nursery: relatum.Model, hollowmere: Path
) -> None:
    request = {
        "rows": ["big: customer.town by (revenue desc, customer.town) top 5 by orders with others total before", "range to category.category closed"],
        "values": ["revenue scale thousands", "r: margin / net_revenue format '0.0%'"],
        "where": "customer.region in ('North', 'East') and (calendar.year = 2023 or calendar.year = 2024) and sales.quantity > 1",
        "keep": "customer where revenue > 1000, top 3 product by revenue",
        "totals": False,
        "style": [{"value": "r", "when": "r < 0.4", "mark": "▼"}, {"value": "revenue", "bar": True}],
    }  # fmt: skip
    said = talk.ask("understand", request=request)
    first, second = said["words"]["rows"]
    assert (first["label"], first["field"], first["others"], first["total"]) == ("big", "customer.town", True, "before")
    assert first["best"] == {"edge": "top", "number": 5, "by": [{"formula": "orders", "descending": False}]}
    assert [each["descending"] for each in first["by"]] == [True, False] and second["upto"] == "category.category"
    assert [each["options"] for each in said["words"]["values"]] == [{"scale": "thousands"}, {"format": "0.0%"}]
    choices = [(each["column"], each["choice"]) for each in said["words"]["where"]]
    assert choices == [("customer.region", {"rest": False, "members": ["'East'", "'North'"]}),
                       ("calendar.year", {"rest": False, "members": ["2023", "2024"]}), ("", None)]  # fmt: skip
    assert said["words"]["keep"] == ["customer where revenue > 1000", "top 3 product by revenue"]
    # As text, as Python, as a shell command and in the file it is the same request.
    assert msgspec.to_builtins(read_text(said["text"], request["style"])) == said["request"]
    parts = said["request"]
    told = tomllib.loads(said["forms"]["file"])["pivot"]["NAME"]
    assert told == {name: value for name, value in parts.items() if name in told} and len(told) == 6
    table = nursery.pivot(**parts).to_arrow()
    assert eval(said["forms"]["python"], {"model": nursery}).to_arrow().equals(table)
    words = shlex.split(said["forms"]["shell"])
    done = CliRunner().invoke(app, ["pivot", str(hollowmere), *words[3:], "--format", "csv"])
    assert done.exit_code == 0 and len(done.stdout.splitlines()) == table.num_rows + 1, done.output


@pytest.mark.parametrize(("text", "reason", "at"), [
    ("values revenue\nrows category.departmnt", "has no column departmnt", "category.departmnt"),
    ("values revnue", "revnue", "revnue"),
    ("values revenue\nwhere customer.region = ", "", None),
    ("values revenue\nrows category.department tp 3", "cannot be used here", "tp"),
    ("value revenue", "'value'", None),
    ("values revenue\nvalues orders", "two lines", None),
    ("values revenue\ntotals maybe", "'maybe'", None),
])  # fmt: skip
def test_a_fault_in_the_text_is_pointed_at(talk: Talk, text: str, reason: str, at: str | None) -> None:
    found = talk.ask("read", text=text)
    assert reason in found["reason"] and "request" not in found
    if at is not None:
        assert text[found["start"] : found["stop"]] == at


def test_a_text_can_go_on_over_lines_and_say_switches(talk: Talk) -> None:
    found = talk.ask(
        "read", text="rows category.department,\n  customer.region\nvalues revenue on rows\ntotals no\nshow_empty yes"
    )["request"]
    assert found["rows"] == ["category.department", "customer.region"]
    assert (found["totals"], found["show_empty"], found["values_on"]) == (False, True, "rows")


# -- choosing members -------------------------------------------------------------------------------------------------

KEYS = ["'fig'", "'ivy'", "'o''k'", NULL, NO_MATCH]


def made_model() -> relatum.Model:
    model = relatum.Model("choices")
    model.add_table("s", pa.table({"k": [1, 2, 3, 4, 9, None], "x": [1, 10, 100, 1000, 10000, 100000]}))
    model.add_table("p", pa.table({"k": [1, 2, 3, 4], "name": ["fig", "ivy", "o'k", None]}), key="k")
    model.relate("s.k -> p.k")
    return model


MODEL = made_model()
WORTH = {"'fig'": 1, "'ivy'": 10, "'o''k'": 100, NULL: 1000, NO_MATCH: 110000}


@settings(max_examples=150, deadline=None)
@given(rest=st.booleans(), members=st.sets(st.sampled_from(KEYS)))
def test_a_choice_is_the_condition_of_exactly_its_members(rest: bool, members: set[str]) -> None:
    choice = Choice(rest, sorted(members))
    where = condition_of("p.name", choice, frozenset((NULL, NO_MATCH)))
    wanted = sum(worth for key, worth in WORTH.items() if rest != (key in members))
    assert (MODEL.evaluate("sum(s.x)", where) or 0) == wanted, where
    if where and wanted:
        (word,) = words_of(Parts(where=where)).where
        read = word.choice
        assert (
            read is not None
            and sum(worth for key, worth in WORTH.items() if read.rest != (key in read.members)) == wanted
        )


@settings(max_examples=100, deadline=None)
@given(steps=st.lists(st.tuples(st.sampled_from(["only", "without"]), st.integers(0, 4)), min_size=1, max_size=4))
def test_only_and_without_leave_what_they_say(steps: list[tuple[str, int]]) -> None:
    talk = Talk(MODEL)
    request: dict[str, Any] = {"rows": ["p.name"], "values": ["sum(s.x)"], "where": "s.x > 0 or s.x < 0"}
    left = list(WORTH)
    for how, number in steps:
        answer = talk.ask("ask", request=request)
        lines = [row for row in answer["shown"]["rows"] if row["k"] != "total"]
        assert len(lines) == len(left)
        if not lines:
            return
        at = number % len(lines)
        key = sorted(left, key=KEYS.index)[at]
        request = talk.ask("turn", grid=answer["grid"], axis="rows", line=at, how=how)
        left = [key] if how == "only" else [each for each in left if each != key]
        assert (MODEL.evaluate("sum(s.x)", request["where"]) or 0) == sum(WORTH[each] for each in left)


def test_members_are_listed_in_pages_with_counts_and_how_formulas_write_them(
    talk: Talk, nursery: relatum.Model
) -> None:
    whole = talk.ask("members", column="customer.town", count=1000)
    page = talk.ask("members", column="customer.town", first=3, count=4)
    assert page["members"] == whole["members"][3:7] and page["total"] == whole["total"] == len(whole["members"])
    assert whole["without"] == [NULL, NO_MATCH] and whole["members"][0]["key"].startswith("'")
    few = talk.ask("members", column="category.category", where="category.department = 'Water'")
    assert [each["there"] for each in few["members"]] == sorted(
        (each["there"] for each in few["members"]), reverse=True
    )
    assert few["present"] < few["total"]
    found = talk.ask("members", column="customer.town", like="ford")
    assert all("ford" in each["text"].lower() for each in found["members"])
    other = talk.ask("choose", request=ASKED, column="customer.town", rest=True, members=[whole["members"][0]["key"]])
    again = talk.ask("choose", request=other, column="customer.town", rest=True, members=[])
    assert again["where"] == "" and whole["members"][0]["key"] in other["where"]


def test_members_open_and_close(talk: Talk) -> None:
    answer = talk.ask("ask", request=ASKED)
    name = answer["shown"]["rows"][0]["t"]
    request = {**ASKED, "rows": ["category.department closed", "category.category"]}
    answer = talk.ask("ask", request=request)
    assert {row["can"] for row in answer["shown"]["rows"]} == {"open", ""}
    at = next(number for number, row in enumerate(answer["shown"]["rows"]) if row["t"] == name)
    opened = talk.ask("ask", request=talk.ask("turn", grid=answer["grid"], axis="rows", line=at, how="open"))
    assert f"open ('{name}')" in opened["request"]["rows"][0]
    line = next(number for number, row in enumerate(opened["shown"]["rows"]) if row["t"] == name)
    assert opened["shown"]["rows"][line]["can"] == "close" and opened["shown"]["rows"][line + 1]["d"] == 1
    closed = talk.ask("turn", grid=opened["grid"], axis="rows", line=line, how="close")
    assert closed["rows"] == request["rows"]
    assert (
        "total"
        in talk.fault("turn", grid=opened["grid"], axis="rows", line=len(opened["shown"]["rows"]) - 1, how="only")[
            "reason"
        ]
    )


# -- explanations, pictures, files ------------------------------------------------------------------------------------


def test_a_cell_is_explained_down_to_its_rows(talk: Talk, nursery: relatum.Model) -> None:
    answer = talk.ask(
        "ask", request={"rows": ["category.department"], "columns": ["calendar.year"], "values": ["revenue", "orders"]}
    )
    told = talk.ask("explain", grid=answer["grid"], cell=[1, 2])
    head = json.dumps(told["head"])
    assert answer["shown"]["rows"][1]["t"] in head and "2023" in head
    (evidence,) = told["evidence"]
    rows = talk.ask("behind", grid=answer["grid"], cell=[1, 2], evidence=0, first=evidence["count"] - 1, count=10)
    assert len(rows["rows"]) == 1 and rows["total"] == evidence["count"] and rows["heads"][0] == "row"
    file = talk.ask("behindfile", grid=answer["grid"], cell=[1, 2], evidence=0, ending=".csv")
    assert len(base64.b64decode(file["bytes"]).splitlines()) == evidence["count"] + 1
    moved = talk.ask("explain", grid=answer["grid"], cell=[1, 2], against=[1, 0])
    assert "difference to" in moved["difference"][0]["line"] and moved["by"]
    other = talk.ask("explain", grid=answer["grid"], cell=[1, 2], against=[1, 0], along="customer.region")
    assert other["by"] == "customer.region" and "North" in json.dumps(other["difference"])
    assert "two values" in talk.fault("explain", grid=answer["grid"], cell=[1, 2], against=[1, 1])["reason"]


def test_a_chart_says_what_it_is_and_what_it_leaves_out(talk: Talk) -> None:
    answer = talk.ask("ask", request=ASKED)
    drawn = talk.ask("chart", grid=answer["grid"], mode="dark")
    assert "<svg" in drawn["svg"] and "lines" in drawn["choice"] and any("share" in note for note in drawn["notes"])
    assert "bars" in talk.ask("chart", grid=answer["grid"], chart="bars")["choice"]
    assert "Unknown chart pie" in talk.fault("chart", grid=answer["grid"], chart="pie")["reason"]


@pytest.mark.parametrize("kind", ["bars", "ranked", "steps", "heat"])
def test_a_chart_is_the_one_that_a_grid_draws(talk: Talk, nursery: relatum.Model, kind: str) -> None:
    asked = {"rows": ["category.category by revenue desc"], "values": ["revenue"], "columns": ["calendar.year"],
             "where": "calendar.year in (2023, 2024)"}  # fmt: skip
    if kind == "ranked":
        del asked["columns"]
    answer = talk.ask("ask", request=asked)
    drawn = talk.ask("chart", grid=answer["grid"], chart=kind, size=(8, 5))
    figure = nursery.pivot(**asked).chart(kind, size=(8, 5))
    assert drawn["svg"] == picture_bytes(figure, ".svg").decode()


def test_a_chart_that_is_stopped_or_whose_process_dies_is_drawn_when_asked_again(talk: Talk) -> None:
    answer = talk.ask("ask", request=ASKED)
    talk.ask("chart", grid=answer["grid"])
    child = painter()._child
    assert child is not None
    child.kill()
    child.wait()
    assert "<svg" in talk.ask("chart", grid=answer["grid"])["svg"]
    replies: list[Reply] = []
    call = call_of({"number": 77, "message": {"kind": "chart", "grid": answer["grid"], "chart": "panels"}})
    thread = threading.Thread(target=lambda: replies.append(talk.host.answer(call)))
    thread.start()
    time.sleep(0.1)
    talk.host.answer(Call(78, Stop(number=77)))
    thread.join(10)
    assert replies[0].fault is not None and replies[0].fault.stopped
    assert "<svg" in talk.ask("chart", grid=answer["grid"])["svg"]


@pytest.mark.parametrize(
    "ending", [".csv", ".json", ".parquet", ".arrow", ".txt", ".md", ".xlsx", ".html", ".png", ".svg", ".pdf"]
)
def test_a_grid_is_exported_as_every_kind_of_file(talk: Talk, ending: str) -> None:
    answer = talk.ask("ask", request=ASKED)
    file = talk.ask("export", grid=answer["grid"], ending=ending)
    data = base64.b64decode(file["bytes"])
    assert file["name"] == f"nursery{ending}" and len(data) > 200
    if ending == ".xlsx":
        assert openpyxl.load_workbook(io.BytesIO(data)).active.max_row > 5
    assert ending in talk.ask("open")["endings"]


# -- the model --------------------------------------------------------------------------------------------------------


def test_the_model_is_told_with_its_relationships_and_what_the_audit_finds(talk: Talk) -> None:
    model = talk.ask("model")
    assert {each["id"] for each in model["tables"]} | {each["id"] for each in model["relationships"]} <= {
        part.split('"')[0] for part in model["svg"].split('id="')[1:]
    }
    sales = next(each for each in model["tables"] if each["name"] == "sales")
    assert sales["kind"] == "fact" and sales["bytes"] > 0 and {"name", "type", "members"} <= set(sales["columns"][0])
    findings = talk.ask("relationship", link="sales.product_id -> product.product_id")
    assert "no match in product" in findings[0]["text"]
    assert "problem" in talk.ask("check")["summary"]
    assert any(each["name"] == "measure attainment" for each in talk.ask("impact", name="revenue")["breaks"])


def test_an_edit_is_tried_first_and_nothing_is_written_before_it_is_saved(own: Talk) -> None:
    path = Path(own.live.file)
    text = path.read_text()
    request = {"rows": ["category.department"], "values": ["revenue"]}
    edit = {
        "edit": "writemeasure",
        "name": "revenue",
        "formula": "2 * sum(sales.quantity * price.unit_price)",
        "format": "¤#,##0",
    }
    tried = own.ask("try", edit=edit, request=request)
    assert "formula" in tried["changes"][0] and tried["impact"]["breaks"] and "of 7 values change" in tried["moved"]
    before = cells_of(own, own.ask("ask", request=request))
    after = cells_of(own, tried)
    assert before != after and own.live.declaration.measures["revenue"].formula.startswith("sum")
    own.ask("change", edit=edit)
    assert cells_of(own, own.ask("ask", request=request)) == after and path.read_text() == text
    lines = own.ask("unsaved")["lines"]
    assert any(line.startswith("+") and "2 * sum" in line for line in lines)
    assert own.ask("takeback")["taken"] and own.ask("unsaved")["lines"] == []
    assert cells_of(own, own.ask("ask", request=request)) == before and not own.ask("takeback")["taken"]
    own.ask("change", edit={"edit": "writemeasure", "name": "double", "formula": "2 * revenue"})
    own.ask("change", edit={"edit": "keeppivot", "name": "mine", "request": request})
    own.ask("save")
    assert "# ---- hierarchies" in path.read_text(), "comments are kept"
    model = relatum.open(path)
    assert model.pivot(saved="mine").to_arrow().equals(model.pivot(**request).to_arrow())
    assert own.ask("unsaved")["lines"] == []


def test_every_edit_is_made_and_a_wrong_one_leaves_the_model(own: Talk) -> None:
    link = "sales.product_id -> product.product_id"
    declaration = own.live.declaration
    assert "Two routes" in own.fault("change", edit={"edit": "direct", "link": link, "direction": "both"})["reason"]
    fault = own.fault("try", edit={"edit": "writemeasure", "name": "x", "formula": "sum(sales.quantty)"}, request=ASKED)
    assert fault["text"][fault["start"] : fault["stop"]] == "sales.quantty"
    assert own.live.declaration is declaration
    customer = "sales.customer_id -> customer.customer_id"
    moved = own.ask(
        "try",
        edit={"edit": "direct", "link": customer, "direction": "off"},
        request={"rows": ["customer.region"], "values": ["revenue"]},
    )
    assert moved["impact"]["changes"]
    own.ask("change", edit={"edit": "direct", "link": customer, "direction": "off"})
    own.ask("change", edit={"edit": "rename", "name": "sales.quantity", "new": "pieces"})
    assert "attainment" in str(own.fault("change", edit={"edit": "remove", "name": "revenue"}))
    own.ask("change", edit={"edit": "remove", "name": "revenue", "force": True})
    assert "revenue" not in own.live.declaration.measures and "pieces" in own.live.session.catalog.columns("sales")


def test_names_that_need_quotes_stay_one_name(own: Talk) -> None:
    own.ask("change", edit={"edit": "writemeasure", "name": "Net takings", "formula": "revenue", "format": "#,##0"})
    (told,) = [each for each in own.ask("open")["names"]["measures"] if "takings" in each["name"]]
    assert told["name"] == '"Net takings"'
    own.ask("change", edit={"edit": "writemeasure", "name": told["name"], "formula": "2 * revenue", "about": "twice"})
    measures = own.live.declaration.measures
    assert measures["Net takings"].formula == "2 * revenue" and [name for name in measures if "takings" in name] == [
        "Net takings"
    ]
    assert own.ask("ask", request={"values": [told["name"]]})["shown"]["values"][0]["label"] == '"Net takings"'
    own.ask("change", edit={"edit": "keeppivot", "name": "My own", "request": {"values": [told["name"]]}})
    own.ask("change", edit={"edit": "keeppivot", "name": '"My own"', "request": {"values": ["revenue"]}})
    assert own.live.declaration.pivots["My own"].values == ("revenue",)


def test_a_file_that_changed_meanwhile_is_not_overwritten(own: Talk) -> None:
    path = Path(own.live.file)
    own.ask("change", edit={"edit": "writemeasure", "name": "double", "formula": "2 * revenue"})
    text = path.read_text() + "\n# somebody else\n"
    path.write_text(text)
    assert "changed since" in own.fault("save")["reason"] and "changed since" in own.fault("unsaved")["reason"]
    assert path.read_text() == text


def test_a_read_only_page_asks_and_changes_nothing(nursery: relatum.Model, hollowmere: Path) -> None:
    talk = Talk(nursery, hollowmere, editable=False)
    assert talk.ask("open")["can"] == {"edit": False, "save": False}
    declaration = nursery.declaration
    for kind, parts in (("change", {"edit": {"edit": "remove", "name": "revenue", "force": True}}), ("save", {})):
        assert "cannot change" in talk.fault(kind, **parts)["reason"]
    assert nursery.declaration is declaration and talk.ask("ask", request=ASKED)["grid"]


def test_new_rows_are_read_again(own: Talk) -> None:
    path = Path(own.live.file).parent / "customer.csv"
    path.write_text(path.read_text() + path.read_text().splitlines()[-1].replace("C", "CX", 1) + "\n")
    assert "customer" in own.ask("refresh")["text"]


def test_a_page_begins_with_a_saved_pivot_or_what_there_is(nursery: relatum.Model, stall: relatum.Model) -> None:
    assert first_request(LiveModel(nursery), "seasons") == parts_of(nursery.pivot(saved="seasons").request)
    with pytest.raises(relatum.ModelError, match="Unknown saved pivot"):
        first_request(LiveModel(nursery), "season")
    assert first_request(LiveModel(stall)).values[0] in stall.declaration.measures
    model = relatum.Model("bare")
    with pytest.raises(relatum.ModelError, match="nothing to show"):
        first_request(LiveModel(model))
    model.add_table("t", pa.table({"x": [1]}))
    assert first_request(LiveModel(model)).values == ["count(t)"]


# -- what takes long, and what is too much ----------------------------------------------------------------------------


@pytest.mark.parametrize("engine", ["memory", "duckdb", "postgresql"])
def test_a_question_is_stopped_and_the_next_one_answered(engine: str, request: pytest.FixtureRequest) -> None:
    server = request.getfixturevalue("server") if engine == "postgresql" else None
    model = relatum.Model("long", engine=engine if server is None else EngineChoice(engine, server.address))
    rows = 1_000_000
    model.add_table("t", pa.table({"a": range(rows), "b": [each % 1000 for each in range(rows)]}), key="a")
    talk = Talk(model)
    assert model.evaluate("count(t)") == rows
    slow = {"rows": ["t.b"], "values": ["sum(rank(sum(t.a) among t) per t.a)"], "totals": False}
    replies: list[Reply] = []
    call = call_of({"number": 77, "message": {"kind": "ask", "request": slow}})
    thread = threading.Thread(target=lambda: replies.append(talk.host.answer(call)))
    thread.start()
    time.sleep(0.2)
    talk.host.answer(Call(78, Stop(number=77)))
    thread.join(60)
    assert replies[0].fault is not None and replies[0].fault.stopped, replies[0]
    running = "select count(*) from pg_stat_activity where state = 'active' and pid <> pg_backend_pid() and datname = 'postgres'"
    assert server is None or server.told(running).strip() == "0", "the server has heard it"
    answer = talk.ask("ask", request={"values": ["count(t)"]})
    assert cells_of(talk, answer) == [["1,000,000"]], "what was sent to the engine is there again"


def test_too_long_a_request_is_refused(talk: Talk) -> None:
    for kind, parts in (
        ("ask", {"request": {"values": ["revenue"], "where": "x" * 200_000}}),
        ("read", {"text": "x" * 200_000}),
    ):
        assert "at most 100,000" in talk.fault(kind, **parts)["reason"]


@settings(max_examples=60, deadline=None)
@given(
    st.builds(
        Parts,
        rows=st.lists(
            st.sampled_from(["category.department", "customer.region top 2 with others", "range closed"]),
            max_size=2,
            unique=True,
        ),
        columns=st.lists(st.sampled_from(["calendar.year", "calendar.quarter_of_year no total"]), max_size=1),
        values=st.lists(
            st.sampled_from(["revenue", "orders scale thousands", "r: margin / net_revenue format '0.0%'"]),
            min_size=1,
            max_size=3,
            unique=True,
        ),
        where=st.sampled_from(["", "customer.region = 'North'", "calendar.year = 2023 or calendar.year = 2024"]),
        keep=st.sampled_from(["", "top 3 product by revenue"]),
        totals=st.booleans(),
        show_empty=st.booleans(),
        values_on=st.sampled_from(["rows", "columns"]),
    )
)
def test_a_request_is_the_same_after_it_was_text(parts: Parts) -> None:
    assert read_text(text_of(parts), []) == parts_of(request_of(parts))
