"""Drafts: right, or unsure; never silently wrong."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from draft_awkward import AWKWARD
from draft_data import DEMO, LIBRARY, LIBRARY_SQL, SCHEMAS, Schema, demo_links, score, sense, write_csv
from draft_middle import MIDDLE
from postgres import Server
from relatum.face.drafting import Draft
from stall import run


def active(draft: Draft, kind: str) -> dict[str, str]:
    """What a draft takes into the model: statements by subject."""
    return {each.subject: each.statement for each in draft.proposals if each.kind == kind and each.active}


def check_against(schema: Schema, draft: Draft, right: frozenset[str]) -> None:
    """A draft draws every right link and no other, sums what adds up and only its arguments."""
    found = score(draft.declaration, right, schema.also)
    assert found.recall == 1, right - found.drawn
    assert not found.wrong
    assert not found.drawn & score(draft.declaration, frozenset(schema.unsure), frozenset()).right
    measures = set(active(draft, "measure").values())
    judged = sense(draft.declaration, schema)
    assert not judged.missing
    assert not judged.senseless
    assert not any('"' in str(part) for part in (*draft.declaration.relationships, *measures)), "a name needs no quotes"
    for each in draft.proposals:
        assert each.evidence or each.doubt or each.kind == "note", each
        assert 0 <= each.confidence <= 1


@pytest.mark.parametrize("schema", [*SCHEMAS, *AWKWARD, *MIDDLE], ids=lambda schema: schema.name)
def test_a_schema_with_traps(tmp_path: Path, schema: Schema) -> None:
    (tmp_path / "raw").mkdir()
    data = schema.write(tmp_path / "raw")
    right = demo_links(tmp_path) if schema is DEMO else schema.right
    draft = relatum.draft(*data)
    check_against(schema, draft, right)
    model = draft.model()
    assert all(model.evaluate(name) is not None for name in model.declaration.measures)
    draft.save(tmp_path / "draft.toml")
    opened = relatum.open(tmp_path / "draft.toml")
    assert opened.declaration.relationships == draft.declaration.relationships
    assert opened.declaration.measures == draft.declaration.measures
    assert opened.declaration.hierarchies == draft.declaration.hierarchies
    assert {name: opened.evaluate(name) for name in opened.declaration.measures} == {
        name: model.evaluate(name) for name in model.declaration.measures
    }


def test_a_database_that_declares_its_keys(server: Server) -> None:
    server.execute("drop schema if exists shop cascade; drop schema public cascade; create schema public")
    server.execute(LIBRARY_SQL)
    draft = relatum.draft(server.address)
    check_against(LIBRARY, draft, LIBRARY.right)
    keys = {name: table.key for name, table in draft.declaration.tables.items()}
    assert keys["copy"] == ("isbn", "number")
    assert keys["loan"] == ("loan_id",)
    links = [each.subject for each in draft.proposals if each.kind == "relationship"]
    assert len(links) == len(set(links)), "what is declared is not found again"
    (home,) = [each for each in draft.declaration.relationships if each.many.table == "reader"]
    assert home.standby, "a second route stands by"
    assert draft.model().evaluate("loans") == 4_000


def test_a_draft_names_things_as_a_person_would(tmp_path: Path) -> None:
    counter, feed = ((tmp_path / schema.name, schema) for schema in MIDDLE)
    drafts = []
    for folder, schema in (counter, feed):
        folder.mkdir()
        drafts.append(relatum.draft(*schema.write(folder)))
    bills, lines = drafts
    assert {"bills", "billed", "billlines", "quantity", "revenue"} <= set(bills.declaration.measures)
    assert bills.declaration.tables["manager"].role_of == "clerk" and bills.kinds["bill"] == "fact"
    assert {"by_family", "best_seeds", "family_by_packet"} <= set(bills.declaration.pivots)
    assert not any("phone" in each.subject or "fax" in each.subject for each in (*bills.proposals, *bills.aside))
    assert not any("birth" in str(each) or "hire" in str(each) for each in bills.declaration.relationships)
    assert lines.declaration.tables["calendar_dates"].columns["date"].pattern == "yyyyMMdd"
    assert lines.declaration.tables["stops"].columns["parent_station"].type == "text", "101 is the stop 101 of 101N"
    model = lines.model()
    assert model.evaluate("count(calendar_dates)[where dates.month = '2014-06']") == 3
    columns = (
        "stop_times.stop_sequence",
        "stop_times.pickup_type",
        "shapes.shape_pt_lat",
        "calendar.sunday",
        "stops.location_type",
    )
    for number, column in enumerate(columns):
        model.measure(f"odd_{number}", f"sum({column})")
    doubted = {each.subject for each in model.check().findings if "identifiers or positions" in each.text}
    assert doubted == {"measure odd_0", "measure odd_1", "measure odd_2", "measure odd_4"}


def test_what_stands_in_the_file(tmp_path: Path) -> None:
    (tmp_path / "raw").mkdir()
    data = SCHEMAS[3].write(tmp_path / "raw")
    draft = relatum.draft(*data)
    draft.save(tmp_path / "draft.toml")
    text = (tmp_path / "draft.toml").read_text()
    assert "# unsure: parcel.sent is text that looks like a date" in text
    assert "dates in two orders" in text
    assert "2% of the keys match nothing (60 rows), for instance D-90" in text
    assert "not unique: 1 value on 2 rows, for instance C7" in text
    for line in text.splitlines():
        assert not line.startswith("link") or "carrier" not in line
    with pytest.raises(relatum.ModelError, match="This file already exists"):
        draft.save(tmp_path / "draft.toml")
    draft.save(tmp_path / "draft.toml", replace=True)
    with pytest.raises(relatum.ModelError, match="lies outside the folder"):
        (tmp_path / "elsewhere").mkdir()
        draft.save(tmp_path / "elsewhere" / "draft.toml")


DATES = [
    (["31/12/2023", "01/02/2024"], "date, written dd/MM/yyyy", True),
    (["12/31/2023", "02/01/2024"], "date, written MM/dd/yyyy", True),
    (["2023/12/31", "2024/1/2"], "date, written yyyy/MM/dd", True),
    (["31.12.2023"], "date, written dd.MM.yyyy", True),
    (["31/12/2023", "12/31/2023"], "dates in two orders", False),
    (["01/02/2023", "03/04/2023"], "either way round", False),
    (["31/12/23", "30/12/23"], "two-digit years", False),
    (["31/12/2023", "31-12-2023"], "more than one format", False),
    (["0042", "0007"], "begins with a zero", True),
    (["1,5", "2,75"], "decimal comma", False),
]


@pytest.mark.parametrize(("values", "said", "sure"), DATES)
def test_texts_that_mean_something_else(tmp_path: Path, values: list[str], said: str, sure: bool) -> None:
    write_csv(tmp_path / "t.csv", [{"n": number, "c": value} for number, value in enumerate(values * 3)])
    draft = relatum.draft(tmp_path / "t.csv")
    (found,) = [each for each in draft.proposals if each.kind == "type" and each.subject == "t.c"]
    assert said in f"{found.statement} {found.evidence} {found.doubt}"
    assert found.active is sure
    model = draft.model()
    if "date, written" in said:
        assert str(model.session.catalog.columns("t")["c"]) == "date"
        assert model.evaluate("max(t.c)").year >= 2023
    else:
        assert model.evaluate("max(t.c)") == max(values)


def test_a_text_that_was_not_looked_at_is_doubted_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("relatum.drafts.profile._SAMPLE", 2)
    write_csv(tmp_path / "t.csv", [{"n": 1, "c": day} for day in ("13/01/2023", "20-01-2023", "31/12/2023")])
    (found,) = [each for each in relatum.draft(tmp_path / "t.csv").proposals if each.kind == "type"]
    assert not found.active
    assert "'20-01-2023', which is not a date of the form dd/MM/yyyy" in found.evidence


NUMBERS = [
    ("quantity", [3, 5, 5], "sum(f.quantity)"), ("unit_price", [1.5, 2.25, 2.25], "avg(f.unit_price)"),
    ("discount", [0.1, 0.05, 0.05], "avg(f.discount)"), ("net_amount", [10, 20, 20], "sum(f.net_amount)"),
    ("order_no", [7, 7, 8], "count(distinct f.order_no)"), ("year", [2022, 2023, 2023], None), ("zip", [8001, 8002, 8002], None),
    ("on_hand", [4, 5, 5], None), ("line", [1, 2, 1], None), ("tax_rate", [0.19, 0.07, 0.07], "avg(f.tax_rate)"),
    ("SalesAmount", [1, 2, 2], "sum(f.sales_amount)"), ("weight", [1.5, 2.5, 2.5], "sum(f.weight)"), ("cost", [10, 20, 20], "sum(f.cost)"), ("unit_cost", [1.5, 2.5, 2.5], "avg(f.unit_cost)"),
    ("margin", [120.5, -3.0, -3.0], "sum(f.margin)"), ("discount", [5, 10, 10], None), ("fee", [0.5, 250.0, 0.5], "sum(f.fee)"), ("tax_amount", [7, 8, 8], "sum(f.tax_amount)"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "values", "formula"), NUMBERS)
def test_what_adds_up(name: str, values: list[Any], formula: str | None) -> None:
    draft = relatum.draft(f=pa.table({name: values, "shop": ["a", "b", "a"]}))
    found = set(active(draft, "measure").values()) - {"count(f)"}
    assert found == ({formula} if formula else set())


def random_star(seed: int) -> tuple[dict[str, pa.Table], set[str]]:
    """A star with names in one of several styles, and the links that are right."""
    chance = random.Random(seed)
    nouns = chance.sample(["depot", "carrier", "driver", "route", "client", "cargo", "vessel", "port"], 4)
    style = chance.choice(["{0}_id|{0}_id", "{0}_id|id", "{0}Key|{0}Key", "{0}_code|code", "{0}_no|{0}_no"])
    tables: dict[str, pa.Table] = {}
    right = set()
    rows = chance.randint(300, 900)
    fact: dict[str, list[Any]] = {
        "done_on": [date(2023, 1, 1) + timedelta(days=chance.randrange(700)) for _ in range(rows)]
    }
    snow = chance.random() < 0.5
    for number, noun in enumerate(nouns):
        many, one = (part.format(noun) for part in style.split("|"))
        count = chance.randint(12, 90)
        form = chance.choice([lambda n, noun=noun: f"{noun[:2].upper()}{n:03d}", lambda n: 1000 + 7 * n])
        keys = [form(n) for n in range(count)]
        lookup: dict[str, list[Any]] = {one: keys, f"{noun}_name": [f"{noun} number {n}" for n in range(count)],
                                        "colour": [chance.choice(["red", "blue"]) for _ in range(count)]}  # fmt: skip
        if snow and number == 3:
            # The last lookup hangs on the first one.
            first = dict(zip(tables[nouns[0]].column_names, tables[nouns[0]].columns, strict=True))
            length = len(next(iter(first.values())))
            tables[nouns[0]] = pa.table({**first, many: [chance.choice(keys) for _ in range(length)]})
            right.add(f"{nouns[0]}.{many} -> {noun}.{one}")
        else:
            lost = chance.random() < 0.3
            fact[many] = [chance.choice(keys) if not lost or chance.random() > 0.02 else form(900) for _ in range(rows)]
            right.add(f"haul.{many} -> {noun}.{one}")
        tables[noun] = pa.table(lookup)
    fact["tons"] = [chance.randint(1, 40) for _ in range(rows)]
    tables["haul"] = pa.table(fact)
    return tables, right


@pytest.mark.parametrize("seed", range(25))
def test_random_stars_are_found_whole(seed: int) -> None:
    tables, right = random_star(seed)
    draft = relatum.draft(**tables)
    found = score(draft.declaration, frozenset(right), frozenset(["haul.done_on -> calendar.date"]))
    assert found.drawn - found.also == found.right
    assert draft.kinds["haul"] == "fact"
    assert draft.declaration.tables["calendar"].calendar is not None
    (total,) = [
        each.subject for each in draft.proposals if each.kind == "measure" and each.statement == "sum(haul.tons)"
    ]
    model = draft.model()
    by_lookup = model.pivot(
        rows=sorted(right)[0].split(" -> ")[1].split(".")[0] + ".colour", values=total, totals=False
    )
    assert sum(record[total] for record in by_lookup.to_arrow().to_pylist()) == sum(tables["haul"]["tons"].to_pylist())


def test_hierarchies_are_what_belongs_together_not_what_happens_to() -> None:
    chance = random.Random(5)
    towns = {f"town {n}": f"region {n % 4}" for n in range(12)}
    names = [chance.choice(list(towns)) for _ in range(90)]
    shops = pa.table({"shop_id": [f"S{n:02d}" for n in range(90)], "shop": [f"Shop {n}" for n in range(90)], "town": names,
                      "region": [towns[each] for each in names], "size": [chance.choice("SML") for _ in names]})  # fmt: skip
    sales = pa.table({"shop_id": [f"S{chance.randrange(90):02d}" for _ in range(300)], "amount": [1] * 300})
    draft = relatum.draft(sales=sales, shop=shops)
    (levels,) = [each.levels for each in draft.declaration.hierarchies.values()]
    assert levels == ("shop.region", "shop.town", "shop.shop")
    model = draft.model()
    assert model.pivot(rows="shop_levels", values="sales_amount").to_arrow().column_names == [*levels, "sales_amount"]


def test_a_folder_of_like_files_is_one_table(tmp_path: Path) -> None:
    for year in (2022, 2023):
        write_csv(tmp_path / f"orders-{year}.csv", [{"order_id": year * 100 + n, "amount": n} for n in range(9)])
    write_csv(tmp_path / "rates-1.csv", [{"a": 1}])
    write_csv(tmp_path / "rates-2.csv", [{"b": 1}])
    (tmp_path / "notes.txt").write_text("x")
    (tmp_path / "daily").mkdir()
    for day in "ab":
        pq.write_table(pa.table({"visitors": [1, 2]}), tmp_path / "daily" / f"{day}.parquet")
    draft = relatum.draft(tmp_path)
    assert draft.rows == {"daily": 4, "orders": 18, "rates_1": 1, "rates_2": 1}
    assert draft.declaration.tables["orders"].source.endswith("orders*.csv")
    assert [each.what for each in draft.left_out] == [str(tmp_path / "notes.txt")]
    draft.save(tmp_path / "m.toml")
    assert relatum.open(tmp_path / "m.toml").evaluate("count(orders)") == 18


def test_dates_far_off_are_doubted() -> None:
    days = [date(1900, 1, 1), *(date(2023, 1, 1) + timedelta(days=n) for n in range(300))]
    draft = relatum.draft(visit=pa.table({"seen_on": days, "minutes": [5] * 301}))
    (calendar,) = [each for each in draft.proposals if each.kind == "calendar"]
    assert "some of them mean no date" in calendar.doubt
    span = draft.declaration.tables["calendar"].calendar
    assert span is not None
    assert span.first.year > 1950


def test_a_calendar_that_is_there_is_used() -> None:
    days = [date(2023, 1, 1) + timedelta(days=n) for n in range(365)]
    calendar = pa.table({"day": days, "holiday": [n % 50 == 0 for n in range(365)]})
    visits = pa.table({"seen_on": days[::2], "booked_on": days[:183], "minutes": [5] * 183})
    draft = relatum.draft(visit=visits, calendar=calendar)
    assert draft.declaration.tables["calendar"].dated
    assert {str(each): each.standby for each in draft.declaration.relationships} == {
        "visit.seen_on -> calendar.day": False, "visit.booked_on -> calendar.day": True
    }  # fmt: skip
    assert draft.model().evaluate("minutes[year to date]", where="calendar.day = date '2023-01-31'") == 80


GROUPS = [
    # the lookups there are, the table that has a group_id, what is drawn, what is said
    (["product_group"], "product", "product.group_id -> product_group.group_id", ""),
    (["product_group"], "customer", "", "product_group is about product, and small numbers match almost anything"),
    (["product_group", "customer_group"], "customer", "customer.group_id -> customer_group.group_id", ""),
    (["red_group", "blue_group"], "customer", "", "is about"),
    (["group"], "customer", "customer.group_id -> group.group_id", ""),
]  # fmt: skip


@pytest.mark.parametrize(("lookups", "table", "drawn", "said"), GROUPS)
def test_one_name_for_several_things(lookups: list[str], table: str, drawn: str, said: str) -> None:
    tables = {
        name: pa.table({"group_id": list(range(1, 9)), f"{name}_name": [f"{name} {n}" for n in range(8)]})
        for name in lookups
    }
    rows = pa.table(
        {f"{table}_id": [f"{table[:1]}{n:03d}" for n in range(40)], "group_id": [1 + n % 8 for n in range(40)]}
    )
    draft = relatum.draft(**tables, **{table: rows})
    assert [str(each).replace('"group"', '"group"') for each in draft.declaration.relationships] == (
        [drawn.replace('"', "")] if drawn else []
    )
    doubts = " ".join(each.doubt for each in draft.proposals)
    assert said in doubts


def test_two_targets_that_are_as_good_are_both_doubted() -> None:
    codes = [f"K{n}" for n in range(20)]
    lookups = {
        name: pa.table({"item_code": codes, "text": [f"{name} {n}" for n in range(20)]}) for name in ("north", "south")
    }
    draft = relatum.draft(**lookups, sale=pa.table({"item_code": codes * 3, "pieces": [1] * 60}))
    assert not [each for each in draft.declaration.relationships if each.many.table == "sale"]
    doubts = sorted(
        each.doubt for each in draft.proposals if each.kind == "relationship" and each.subject.startswith("sale")
    )
    assert doubts == [
        "sale.item_code could also point to north.item_code",
        "sale.item_code could also point to south.item_code",
    ]


def test_rows_that_are_only_numbered_are_not_the_same_things() -> None:
    draft = relatum.draft(
        a=pa.table({"n": [1, 2, 3], "x": ["p", "q", "r"]}), b=pa.table({"n": [1, 2, 3], "y": ["s", "t", "u"]})
    )
    assert not draft.declaration.relationships
    (doubted,) = [each for each in draft.proposals if each.kind == "relationship"]
    assert "need not be the same things" in doubted.doubt


def test_codes_on_one_side_and_numbers_on_the_other_never_match(tmp_path: Path) -> None:
    write_csv(tmp_path / "client.csv", [{"client_id": f"{n:04d}", "client": f"Client {n}"} for n in range(1, 30)])
    write_csv(tmp_path / "visit.csv", [{"client_id": 1 + n % 29, "minutes": 5} for n in range(90)])
    draft = relatum.draft(tmp_path)
    assert not draft.declaration.relationships
    (doubted,) = [each for each in draft.proposals if each.kind == "relationship"]
    assert doubted.doubt == "client_id is integer and client.client_id is text: they never match"
    draft.save(tmp_path / "m.toml")
    assert '# link = "visit.client_id -> client.client_id"' in (tmp_path / "m.toml").read_text()


def refused() -> Iterator[tuple[Any, str]]:
    yield ("nowhere.csv",), "no such file"
    yield (7,), "it must be a text or a path"
    yield (), "contains no tables"


@pytest.mark.parametrize(("data", "message"), list(refused()))
def test_what_cannot_be_drafted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, data: Any, message: str) -> None:
    monkeypatch.chdir(tmp_path)
    with pytest.raises(relatum.RelatumError, match=message):
        relatum.draft(*data)


def test_a_draft_of_frames_has_no_file(tmp_path: Path) -> None:
    draft = relatum.draft(t=pa.table({"a": [1, 2]}))
    with pytest.raises(relatum.ModelError, match="is a frame in memory"):
        draft.save(tmp_path / "x.toml")
    assert "[table.t]" in str(draft)


def test_in_the_shell(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    DEMO.write(tmp_path)
    monkeypatch.chdir(tmp_path)
    result = run("draft", "demo", "-o", "draft.toml", width=160)
    assert result.exit_code == 0, result.stderr
    assert "sales.product_id -> product.product_id" in " ".join(result.stdout.split())
    assert "sum(stock.on_hand)[pin last calendar.month]" in " ".join(result.stdout.split()), "brackets are no markup"
    assert "wrote draft.toml" in result.stderr
    assert run("check", "draft.toml").exit_code == 1
    pivot = run(
        "pivot", "draft.toml", "--rows", "category.department", "--columns", "calendar.year", "--values", "quantity"
    )
    assert pivot.exit_code == 0
    document = json.loads(run("draft", "demo", "-o", "again.toml", "--format", "json").stdout)
    assert {each["kind"] for each in document["tables"]} == {"fact", "lookup", "calendar"}
    assert all(each["evidence"] for each in document["proposals"] if each["kind"] == "relationship")
    assert run("draft", "demo", "-o", "draft.toml").exit_code == 2
