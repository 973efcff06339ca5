"""Drafts of real-world files: names, null markers, roles, dates in parts, what is summed, and valid models."""

from __future__ import annotations

import json
import random
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from draft_data import write_csv
from relatum.face.drafting import Draft
from relatum.model.words import is_beginning, is_measured, looks_like_key, plain_name, role_in
from relatum.wording import percent
from stall import run

NAMES = [
    ("playerID", "player_id"), ("Order No", "order_no"), ("2B", "b2"), ("2nd half", "half_2nd"), ("Temp °C", "temp_c"), ("Größe", "größe"), ("a.b", "a_b"),
    ("End", "t_end"), ("42", "column_42"), ("", "column_1"), ("%", "column_1"), ("sales", "sales"), ("Q1Sales", "q1_sales"), ("__x__", "x"), ("HTTP Code", "http_code"),
]  # fmt: skip


@pytest.mark.parametrize(("heading", "name"), NAMES)
def test_names_need_no_quotes(heading: str, name: str) -> None:
    assert plain_name(heading, 1, "t") == name
    assert plain_name(name, 1, "t") == name, "a plain name stays as it is"


WORDS = [
    (looks_like_key, "order_id custkey partkey userid zip_code sku", "paid humid solid bid grid hybrid valid said name amount"),
    (is_measured, "temp dew_point_temp humidity wind_speed dep_delay altitude", "quantity amount revenue hours name"),
    (role_in, "origin from_depot home_team new_owner", "depot team amount"),
    (is_beginning, "birth_date built_on founded since_year debut", "sold_on played_on date"),
]  # fmt: skip


@pytest.mark.parametrize(("says", "yes", "no"), WORDS, ids=[each[0].__name__ for each in WORDS])
def test_what_names_say(says: Any, yes: str, no: str) -> None:
    assert [bool(says(name)) for name in yes.split()] == [True] * len(yes.split())
    assert [name for name in no.split() if says(name)] == []


PERCENT = [
    (1, 4, 1, "25%"), (1, 3, 1, "33.3%"), (1, 3, 2, "33.33%"), (336_775, 336_776, 1, "99.9997%"), (1, 336_776, 1, "0.0003%"), (1, 4, 2, "25.00%"),
    (5, 5, 2, "100%"), (0, 9, 1, "0%"), (0, 0, 1, "0%"), (999_999_999_999, 10**12, 1, "over 99.9999999%"), (1, 10**12, 1, "under 0.0000001%"),
]  # fmt: skip


@pytest.mark.parametrize(("part", "whole", "digits", "text"), PERCENT)
def test_percentages_never_contradict(part: int, whole: int, digits: int, text: str) -> None:
    assert percent(part, whole, digits) == text


def drafted(tmp_path: Path, **tables: list[dict[str, Any]]) -> Draft:
    (tmp_path / "raw").mkdir()
    for name, rows in tables.items():
        write_csv(tmp_path / "raw" / f"{name}.csv", rows)
    draft = relatum.draft(tmp_path / "raw")
    draft.save(tmp_path / "draft.toml")
    opened = relatum.open(tmp_path / "draft.toml")
    assert opened.declaration.tables.keys() == draft.declaration.tables.keys()
    assert all(opened.evaluate(name) is not None for name in opened.declaration.measures)
    return draft


def said(draft: Draft, kind: str) -> str:
    return "\n".join(
        f"{each.word} {each.statement} ({each.evidence}) {each.doubt}" for each in draft.proposals if each.kind == kind
    )


MARKED = [
    # the values of a column, what the draft says, the markers of the column
    ("1 NA 3", "sure t.c: NA means null (on 1 of 3 rows; the rest are numbers)", ("NA",)),
    ("2024-01-01 - 2024-01-03", "the rest are dates", ("-",)), ("x NA y", 'may be a value or may mean null', ()),
    ("NA NA", "there are no other values", ("NA",)), ("1.5 N/A -2e3", "the rest are numbers", ("N/A",)), ("1 . \\N 4", "\\N", (".", "\\N")),
    ("1 2 3", "", ()), ("1 x 3", "", ()),
]  # fmt: skip


@pytest.mark.parametrize(("values", "evidence", "markers"), MARKED)
def test_markers_of_null(tmp_path: Path, values: str, evidence: str, markers: tuple[str, ...]) -> None:
    rows = [{"n": number, "c": value} for number, value in enumerate(values.split())]
    draft = drafted(tmp_path, t=rows)
    settings = draft.declaration.tables["t"].columns.get("c")
    assert (set(settings.null) if settings else set()) == set(markers)
    assert evidence in said(draft, "null")


def test_a_marker_of_several_columns_is_one_of_the_table_unless_it_may_be_a_value(tmp_path: Path) -> None:
    rows = [{"a": 1, "b": 2.5, "c": "x"}, {"a": "NA", "b": "NA", "c": "y"}]
    assert drafted(tmp_path, t=rows).declaration.tables["t"].null == ("NA",)
    (tmp_path / "two").mkdir()
    league = [*rows, {"a": 3, "b": 4, "c": "NA"}]
    table = drafted(tmp_path / "two", t=league).declaration.tables["t"]
    assert table.null == () and [table.columns[name].null for name in "ab"] == [("NA",), ("NA",)]


def test_an_infinite_number_is_no_decimal(tmp_path: Path) -> None:
    draft = drafted(tmp_path, t=[{"n": n, "ratio": "inf" if n == 2 else n / 4} for n in range(8)])
    assert "ratio" not in draft.declaration.tables["t"].columns
    assert "ratio is 'inf', which is not a decimal(2)" in said(draft, "type")


@pytest.mark.parametrize("years", [(1949, 2019), (1, 2), (1066, 1945), (9999, 1)])
def test_any_column_of_years(tmp_path: Path, years: tuple[int, int]) -> None:
    drafted(
        tmp_path,
        t=[{"year": years[n % 2], "pieces": n} for n in range(9)],
        u=[{"Year Built": years[n % 2]} for n in range(5)],
    )


def day_rows(count: int, shift: int = 0) -> list[dict[str, Any]]:
    start = datetime(2023, 3, 1, 9)
    rows = []
    for n in range(count):
        at = start + timedelta(hours=7 * n)
        rows.append(
            {
                "year": at.year,
                "month": at.month,
                "day": at.day,
                "at": (at + timedelta(hours=shift)).isoformat(),
                "pieces": n,
            }
        )
    return rows


@pytest.mark.parametrize(("shift", "link", "note"), [
    (0, "t.at -> calendar.date", ""), (12, "t.(year, month, day) -> calendar.(year, month_of_year, day)", "is a different day from year, month, day on"),
])  # fmt: skip
def test_dates_in_parts_and_moments(tmp_path: Path, shift: int, link: str, note: str) -> None:
    draft = drafted(tmp_path, t=day_rows(200, shift))
    assert [str(each) for each in draft.declaration.relationships] == [link]
    assert note in said(draft, "note")
    rows = draft.model().pivot("calendar.month", values="pieces", totals=False).to_arrow().to_pylist()
    expected: dict[str, int] = {}
    for row in day_rows(200):
        expected[f"{row['year']}-{row['month']:02d}"] = (
            expected.get(f"{row['year']}-{row['month']:02d}", 0) + row["pieces"]
        )
    assert {each["calendar.month"]: each["pieces"] for each in rows} == expected


def test_months_in_parts_are_a_level(tmp_path: Path) -> None:
    rows = [{"year": 2022 + n // 12, "month": 1 + n % 12, "budget": 10 * n} for n in range(24)]
    draft = drafted(tmp_path, plan=rows)
    (related,) = draft.declaration.relationships
    assert (str(related), related.level) == ("plan.(year, month) -> calendar.(year, month_of_year)", True)


def test_a_lookup_that_looks_up_others_keeps_its_own_name_for_one_of_its_roles(tmp_path: Path) -> None:
    chance = random.Random(4)
    regions = [{"region_id": f"R{n}", "region": f"Region {n}"} for n in range(12)]
    depots = [{"depot_id": f"D{n:02d}", "depot": f"Depot {n}", "region_id": f"R{n % 12}"} for n in range(30)]
    moves = [
        {"from_depot_id": f"D{chance.randrange(30):02d}", "to_depot_id": f"D{chance.randrange(30):02d}", "pallets": n}
        for n in range(300)
    ]
    draft = drafted(tmp_path, region=regions, depot=depots, move=moves)
    assert {str(each) for each in draft.declaration.relationships} == {
        "depot.region_id -> region.region_id", "move.from_depot_id -> depot.depot_id", "move.to_depot_id -> to_depot.depot_id"
    }  # fmt: skip
    role = draft.declaration.tables["to_depot"]
    assert (role.role_of, role.label) == ("depot", "To depot")
    assert not any(each.standby for each in draft.declaration.relationships)


def test_at_most_a_dozen_measures_are_part_of_a_model(tmp_path: Path) -> None:
    names = [f"{letter}{word}" for letter in "abcdefghijklmnopqrst" for word in ("_units",)]
    draft = drafted(tmp_path, t=[{name: n * (at + 1) for at, name in enumerate(names)} for n in range(30)])
    assert len(draft.declaration.measures) == 12
    left = [each for each in draft.proposals if each.kind == "measure" and not each.active]
    assert len(left) == 21 - 12
    assert "21 numbers are in this table" in left[0].doubt
    text = (tmp_path / "draft.toml").read_text()
    assert text.count("# formula = ") == len(left)


def test_free_text_is_no_level(tmp_path: Path) -> None:
    chance = random.Random(2)
    shops = [{"shop_id": f"S{n:02d}", "region": f"Region {n % 4}", "town": f"Town {n % 12}",
              "remarks": f"moved {n} times and has a roof of {chance.random():.4f} tiles"} for n in range(60)]  # fmt: skip
    draft = drafted(
        tmp_path, shop=shops, sales=[{"shop_id": f"S{chance.randrange(60):02d}", "amount": 3} for _ in range(200)]
    )
    levels = [each.levels for each in draft.declaration.hierarchies.values()]
    assert levels == [("shop.region", "shop.town")]


def test_the_calendar_spans_facts_and_no_births(tmp_path: Path) -> None:
    people = [
        {"person_id": f"P{n:03d}", "born": date(1950, 1, 1) + timedelta(days=97 * n), "year": 1950 + n % 40}
        for n in range(200)
    ]
    visits = [
        {"person_id": f"P{n % 200:03d}", "seen_on": date(2021, 2, 1) + timedelta(days=n), "minutes": n % 50}
        for n in range(400)
    ]
    draft = drafted(tmp_path, person=people, visit=visits)
    span = draft.declaration.tables["calendar"].calendar
    assert span is not None and (span.first.year, span.last.year) == (2021, 2022)
    assert [str(each) for each in draft.declaration.relationships if each.one.table == "calendar"] == [
        "visit.seen_on -> calendar.date"
    ]


def test_two_facts_about_the_same_things_meet_at_what_both_look_up(tmp_path: Path) -> None:
    keys = [(f"P{n % 30:02d}", f"C{n % 7}") for n in range(210)]
    tables: dict[str, Any] = {
        "player": [{"player_id": f"P{n:02d}", "player": f"Player {n}"} for n in range(30)], "club": [{"club_id": f"C{n}", "club": f"Club {n}"} for n in range(7)],
        "batting": [{"player_id": p, "club_id": c, "runs": n} for n, (p, c) in enumerate(keys)],
        "pay": [{"player_id": p, "club_id": c, "note": n % 9, "salary": 10 * n} for n, (p, c) in enumerate(keys[:150] + keys[:20])],
    }  # fmt: skip
    draft = drafted(tmp_path, **tables)
    assert {str(each) for each in draft.declaration.relationships} == {
        f"{fact}.{lookup}_id -> {lookup}.{lookup}_id" for fact in ("batting", "pay") for lookup in ("player", "club")
    }
    assert "is also a fact about the same things" in said(draft, "relationship")


def test_what_was_left_out_is_told_when_asked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "raw").mkdir()
    write_csv(tmp_path / "raw" / "client.csv", [{"client": f"Town {n}", "town": f"Town {n}"} for n in range(20)])
    write_csv(
        tmp_path / "raw" / "visit.csv",
        [
            {"client": f"Town {n % 20}", "at": "2024-05-17T23:30:00Z", "place": f"Town {n % 30}", "minutes": 5}
            for n in range(90)
        ],
    )
    plain = run("draft", "raw", "-o", "a.toml", width=200)
    everything = run("draft", "raw", "-o", "b.toml", "--all", "--timezone", "Europe/Oslo", width=200)
    assert "considered and left out" not in plain.stdout
    assert "considered and left out  visit.place -> client.town" in everything.stdout
    assert 'timezone = "Europe/Oslo"' in (tmp_path / "b.toml").read_text()
    assert relatum.open("b.toml").evaluate("max(date(visit.at))") == date(2024, 5, 18)
    document = json.loads(run("draft", "raw", "-o", "c.toml", "--all", "--format", "json").stdout)
    assert "aside" in {each["kind"] for each in document["proposals"]}
    assert run("draft", "raw", "-o", "d.toml", "--timezone", "Mars/Olympus").exit_code == 2


def test_frames_are_drafted_by_plain_names_too() -> None:
    draft = relatum.draft(
        sales=pa.table(
            {"Sold On": [datetime(2024, 1, 1, 9), datetime(2024, 2, 1)], "Net Amount": [1, 2], "2nd": [3, 4]}
        )
    )
    assert list(draft.model().session.data["sales"].types) == ["sold_on", "net_amount", "nd2"]
    assert draft.model().evaluate("net_amount", where="calendar.month = '2024-02'") == 2


def test_a_faulty_file_keeps_no_one_from_the_others(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "raw").mkdir()
    (tmp_path / "raw" / "torn.csv").write_text("a,b\n1,2\n3\n")
    with pytest.raises(relatum.SourceError, match="This row has 1 field, and the heading has 2"):
        relatum.draft("raw")
    (tmp_path / "raw" / "toll.csv").write_text("gate,toll,toll\n" + "".join(f"G{n},{n},{10 * n}\n" for n in range(12)))
    done = run("draft", "raw", "-o", "a.toml", width=300)
    assert "left out  raw/torn.csv: line 3: This row has 1 field" in done.stdout
    assert "toll has columns with the same heading, or with none: they are numbered" in done.stdout
    assert "# left out: raw/torn.csv: line 3" in (tmp_path / "a.toml").read_text()
    assert relatum.open("a.toml").evaluate("sum(toll.toll_2 - toll.toll)") == 9 * 66


def test_few_values_that_agree_are_told_and_not_taken(tmp_path: Path) -> None:
    places = [{"code": code, "about": f"the {code} quay"} for code in ("AAA", "BBB", "CCC")]
    trips = [{"trip": f"T{n}", "stop": places[n % 3]["code"], "tide": n % 5} for n in range(60)]
    draft = drafted(tmp_path, place=places, trip=trips)
    assert not draft.declaration.relationships
    assert [each.statement for each in draft.aside] == ["trip.stop -> place.code"]
    assert "3 values could match by chance" in draft.aside[0].evidence
    assert "avg(trip.tide)" in [str(each.formula) for each in draft.declaration.measures.values()]


#: A grocery's raw tables: households of which half are described, campaigns with a table of descriptions, baskets of lines.
GROCERY = {
    "residents": [{"household_id": 2 * n + 1, "income": f"{n % 7}0-{n % 7}9K"} for n in range(90)],
    "campaign_descriptions": [{"campaign_id": n + 1, "kind": "ABC"[n % 3]} for n in range(12)],
    "mailing": [{"campaign_id": n % 12 + 1, "household_id": n % 100 + 1} for n in range(0, 1150, 2)],
    "basket_line": [
        {"basket_id": 700000 + n // 5, "line_no": n % 5, "household_id": n // 5 % 180 + 1, "item_upc": 5138004100 + 13 * (n % 31), "spent": n % 17 / 4}
        for n in range(1500)
    ],
}  # fmt: skip


def test_a_grocery_is_drafted(tmp_path: Path) -> None:
    draft = drafted(tmp_path, **GROCERY)
    assert {str(each) for each in draft.declaration.relationships} == {
        "mailing.campaign_id -> campaign_descriptions.campaign_id",
        "mailing.household_id -> residents.household_id",
        "basket_line.household_id -> residents.household_id",
    }
    formulas = {each.formula for each in draft.declaration.measures.values()}
    assert "count(distinct basket_line.basket_id)" in formulas, "a part of the key that names things is counted"
    assert "count(distinct basket_line.item_upc)" in formulas and "sum(basket_line.spent)" in formulas
    assert not any("sum(" in each and "spent" not in each for each in formulas)
