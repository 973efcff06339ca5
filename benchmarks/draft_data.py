"""Schemas to draft from: each with the relationships that are right, and traps beside them. All of it is made up."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import openpyxl
import pyarrow.parquet as pq
from msgspec.structs import replace

import relatum
from relatum.demo.write import write_demo
from relatum.model.declaration import Declaration, End
from relatum.model.links import parse_link
from star_data import make_tables

Rows = list[dict[str, Any]]


@dataclass(frozen=True)
class Schema:
    """Raw data, and what a draft of it should say.

    ``write`` puts the data into a folder and gives back what to draft. ``right`` are the links that a modeller would
    draw, ``also`` others that do no harm. ``unsure`` are links that must not be active, each for the reason beside it.
    ``measures`` are formulas worth having, ``not_summed`` columns of which a sum means nothing; ``years`` are the first
    and last of the calendar that is wanted. Names are as a draft would write them: in lower case and underscores.
    """

    name: str
    write: Callable[[Path], list[str]]
    right: frozenset[str]
    unsure: dict[str, str] = field(default_factory=dict)
    also: frozenset[str] = frozenset()
    measures: frozenset[str] = frozenset()
    not_summed: frozenset[str] = frozenset()
    years: tuple[int, int] | None = None


def write_csv(path: Path, rows: Rows) -> None:
    """Rows as a CSV file; None is empty."""
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)


def _demo(folder: Path) -> list[str]:
    write_demo(folder / "demo", 20_000)
    (folder / "demo" / "nursery.toml").unlink()
    return [str(folder / "demo")]


def demo_links(folder: Path) -> frozenset[str]:
    """The links that the demo's own model draws."""
    declaration = relatum.open(write_demo(folder / "model", 500)).declaration
    return frozenset(map(str, declaration.relationships))


def _star(folder: Path) -> list[str]:
    for name, table in make_tables(60_000).items():
        pq.write_table(table, folder / f"{name}.parquet")
    return [str(folder)]


def _days(random: Random, first: date, count: int, span: int) -> list[date]:
    return [first + timedelta(days=random.randrange(span)) for _ in range(count)]


def _workshop(folder: Path) -> list[str]:
    """Repairs of boats: ids that are all called id, codes and names with other meanings, codes that begin with 0."""
    random = Random(1)
    boats = [f"{n:05d}" for n in range(1, 61)]
    write_csv(folder / "boat.csv", [
        {"reg": boat, "name": f"Hull {n}", "code": random.choice(["SL", "MB", "CT"]), "built": 1980 + n % 40,
         "owner_id": 1 + n % 25}
        for n, boat in enumerate(boats)
    ])  # fmt: skip
    write_csv(folder / "owner.csv", [
        {"id": n, "name": f"Owner {n}", "status": random.choice(["new", "old"]), "phone": f"0{55_000 + n}"}
        for n in range(1, 31)
    ])  # fmt: skip
    write_csv(folder / "job_type.csv", [
        {"code": f"J{n:02d}", "title": f"Job {n}", "trade": ["paint", "rig", "engine"][n % 3]} for n in range(1, 13)
    ])  # fmt: skip
    write_csv(folder / "repair.csv", [
        {"id": n, "boat_reg": random.choice(boats), "job_type_code": f"J{random.randrange(1, 13):02d}",
         "started_on": day, "finished_on": day + timedelta(days=random.randrange(9)), "status": random.randrange(1, 4),
         "hours": random.randrange(1, 30), "hourly_rate": random.choice([48.5, 52.0, 61.25]), "year": day.year}
        for n, day in enumerate(sorted(_days(random, date(2022, 3, 1), 1500, 800)), 1)
    ])  # fmt: skip
    return [str(folder)]


def _parcels(folder: Path) -> list[str]:
    """Parcels: 98% coverage, two roles of one lookup, a key that is not unique, dates in two orders."""
    random = Random(2)
    depots = [f"D-{n:03d}" for n in range(1, 41)]
    write_csv(folder / "depot.csv", [
        {"depot_id": depot, "depot_name": f"Depot {n}", "district": f"District {n % 8}", "area": f"Area {n % 8 % 3}"}
        for n, depot in enumerate(depots)
    ])  # fmt: skip
    lost = [f"D-{n:03d}" for n in range(900, 905)]
    carriers = [{"carrier_no": f"C{n}", "carrier": f"Carrier {n}"} for n in range(1, 40)]
    write_csv(folder / "carrier.csv", [*carriers, {"carrier_no": "C7", "carrier": "Carrier 7 again"}])
    parcels = []
    for n in range(1, 3001):
        day = date(2023, 1, 1) + timedelta(days=n // 5)
        when = day.strftime("%d/%m/%Y") if n % 2 else day.strftime("%m/%d/%Y")
        parcels.append(
            {"parcel_no": f"P{n:06d}", "from_depot_id": random.choice(depots if n % 50 else lost),
             "to_depot_id": random.choice(depots), "carrier_no": f"C{random.randrange(1, 40)}", "sent": when,
             "weight": round(random.uniform(0.1, 30), 2), "declared_value": random.randrange(5, 900)}
        )  # fmt: skip
    write_csv(folder / "parcel.csv", parcels)
    return [str(folder)]


def _meters(folder: Path) -> list[str]:
    """Readings of meters: tariffs by date, targets by two columns, a one-to-one pair, small numbers found anywhere."""
    random = Random(3)
    meters = [f"M{n:04d}" for n in range(1, 121)]
    write_csv(folder / "meter.csv", [
        {"meter": meter, "zone": f"Z{n % 6}", "tariff_code": f"T{n % 4}", "floors": 1 + n % 5}
        for n, meter in enumerate(meters)
    ])  # fmt: skip
    write_csv(folder / "meter_detail.csv", [
        {"meter": meter, "serial": f"SN{n * 37:06d}", "installed": date(2015, 1, 1) + timedelta(days=31 * n)}
        for n, meter in enumerate(meters)
    ])  # fmt: skip
    write_csv(folder / "tariff.csv", [
        {"tariff_code": f"T{n}", "effective_from": date(year, 1, 1), "price_per_unit": 0.2 + n / 100 + year % 5 / 50}
        for n in range(4) for year in (2021, 2022, 2023, 2024)
    ])  # fmt: skip
    readings = [
        {"meter": meter, "tariff_code": f"T{n % 4}", "read_on": date(2022, 1, 31) + timedelta(days=30 * month),
         "units": random.randrange(100, 900), "reader": random.randrange(1, 6)}
        for n, meter in enumerate(meters) for month in range(24)
    ]  # fmt: skip
    write_csv(folder / "reading.csv", readings)
    months = [f"{2022 + month // 12}-{month % 12 + 1:02d}" for month in range(24)]
    write_csv(folder / "zone_month.csv", [
        {"zone": f"Z{n}", "month": month, "heating_days": random.randrange(0, 31)} for n in range(6) for month in months
    ])  # fmt: skip
    write_csv(folder / "outage.csv", [
        {"zone": f"Z{random.randrange(6)}", "month": random.choice(months), "cause": random.choice(["storm", "work"]),
         "minutes": random.randrange(1, 400)}
        for _ in range(500)
    ])  # fmt: skip
    return [str(folder)]


def _package(folder: Path) -> list[str]:
    """A Data Package whose descriptor declares keys, in columns whose names say nothing."""
    random = Random(4)
    write_csv(folder / "crew.csv", [{"a": n, "b": f"Crew {n}"} for n in range(1, 21)])
    write_csv(
        folder / "tours.csv", [{"x": n, "y": random.randrange(1, 21), "km": random.randrange(9)} for n in range(200)]
    )
    fields = {"crew": ("a", "b"), "tours": ("x", "y", "km")}
    resources: list[dict[str, Any]] = []
    for name, columns in fields.items():
        schema: dict[str, Any] = {
            "fields": [{"name": each, "type": "string" if each == "b" else "integer"} for each in columns],
            "primaryKey": columns[0],
        }
        if name == "tours":
            schema["foreignKeys"] = [{"fields": "y", "reference": {"resource": "crew", "fields": "a"}}]
        resources.append({"name": name, "path": f"{name}.csv", "schema": schema})
    (folder / "datapackage.json").write_text(json.dumps({"name": "tours", "resources": resources}))
    return [str(folder / "datapackage.json")]


def _orchard(folder: Path) -> list[str]:
    """A workbook with titles above its tables, headings of several words, rates that hold from a date on."""
    random = Random(9)
    book = openpyxl.Workbook()
    book.remove(book.active)

    def sheet(name: str, *rows: tuple[Any, ...]) -> None:
        page = book.create_sheet(name)
        for row in rows:
            page.append(list(row))

    kinds = [("V1", "Russet", "apple"), ("V2", "Pippin", "apple"), ("V3", "Quince", "quince"), ("V4", "Gage", "plum")]
    sheet("Varieties", ("Code", "Variety", "Fruit"), *kinds)
    blocks = [
        (f"B-{n}", random.choice(kinds)[0], random.choice(["North field", "South field"]), random.randrange(1995, 2020))
        for n in range(1, 31)
    ]
    sheet("Blocks", ("Orchard blocks",), (), ("Block", "Variety Code", "Field", "Planted"), *blocks)
    pickers = [(n, f"Picker {n}", random.choice(["day", "season"])) for n in range(101, 141)]
    sheet("Pickers", ("Number", "Name", "Contract"), *pickers)
    first = datetime(2023, 8, 1)
    harvest = [
        (first + timedelta(days=random.randrange(70)), random.choice(blocks)[0] if n % 45 else "B-99",
         random.choice(pickers)[0], random.randrange(1, 20), round(random.uniform(5, 300), 1))
        for n in range(1200)
    ]  # fmt: skip
    heading = ("Picked On", "Block", "Picker Number", "Crates", "Kilograms")
    sheet("Harvest", ("Harvest 2023",), ("from the weighbridge",), (), heading, *harvest)
    rates = [(kind, datetime(2023, month, 1), 0.3 + month / 50) for kind in ("day", "season") for month in (6, 8, 9)]
    sheet("Rates", ("Contract", "Valid From", "Rate per Crate"), *rates)
    book.save(folder / "orchard.xlsx")
    return [str(folder / "orchard.xlsx")]


LIBRARY_SQL = """
create schema if not exists lending;
set search_path to lending;
create table branch (branch_id int primary key, branch text not null, county text);
create table reader (reader_id uuid primary key, since date, home_branch int references branch);
create table work (isbn char(13) primary key, title text, price numeric(8,2));
create table copy (isbn char(13) references work, number int, branch int references branch, primary key (isbn, number));
create table loan (loan_id bigserial primary key, isbn char(13), copy_number int, who uuid references reader,
                   lent_at timestamp, lent_on date, days int, fee numeric(6,2),
                   foreign key (isbn, copy_number) references copy (isbn, number));
insert into branch select n, 'Branch ' || n, 'County ' || n % 3 from generate_series(1, 12) n;
insert into reader select md5(n::text)::uuid, date '2015-01-01' + n, 1 + n % 12 from generate_series(1, 200) n;
insert into work select lpad(n::text, 13, '0'), 'Work ' || n, 5 + n % 40 from generate_series(1, 150) n;
insert into copy select isbn, k, 1 + (k * 7 + price::int) % 12 from work, generate_series(1, 3) k;
insert into loan (isbn, copy_number, who, lent_at, lent_on, days, fee)
select lpad((1 + n * 7 % 150)::text, 13, '0'), 1 + n % 3, md5((1 + n % 200)::text)::uuid,
       timestamp '2023-01-02 09:00' + n * interval '3 hours', date '2023-01-02' + n / 8, 1 + n % 28, (n % 5) * 0.25
from generate_series(0, 3999) n;
alter role tester set search_path to lending;
"""

DEMO = Schema(
    "demo", _demo, frozenset(), {}, frozenset(["sales.shipped_on -> calendar.date"]),
    frozenset(["sum(sales.quantity)", "sum(quota.target)", "count(sales)", "count(distinct sales.order_no)"]),
    frozenset(["sales.discount", "sales.order_no", "product.plant_no"]),
)  # fmt: skip
SCHEMAS = (
    DEMO,
    Schema(
        "star benchmark", _star,
        frozenset(["lineorder.custkey -> customer.custkey", "lineorder.suppkey -> supplier.suppkey",
                   "lineorder.partkey -> part.partkey", "lineorder.orderdate -> dates.datekey"]),
        {"part.size -> customer.custkey": "small numbers", "customer.city -> supplier.city": "two lookups share names"},
        frozenset(),
        frozenset(["sum(lineorder.revenue)", "sum(lineorder.quantity)", "count(distinct lineorder.orderkey)"]),
        frozenset(["lineorder.discount", "lineorder.tax", "lineorder.orderkey"]),
    ),
    Schema(
        "workshop", _workshop,
        frozenset(["repair.boat_reg -> boat.reg", "repair.job_type_code -> job_type.code", "boat.owner_id -> owner.id",
                   "repair.started_on -> calendar.date", "repair.finished_on -> calendar.date"]),
        {"repair.id -> owner.id": "ids of other things", "repair.status -> owner.id": "small numbers",
         "boat.code -> job_type.code": "codes of other things", "boat.name -> owner.name": "names of other things"},
        frozenset(),
        frozenset(["sum(repair.hours)", "avg(repair.hourly_rate)", "count(repair)"]),
        frozenset(["repair.hourly_rate", "repair.year", "repair.id"]),
    ),
    Schema(
        "parcels", _parcels,
        frozenset(["parcel.from_depot_id -> depot.depot_id", "parcel.to_depot_id -> depot.depot_id"]),
        {"parcel.carrier_no -> carrier.carrier_no": "the key is not unique",
         "parcel.sent -> calendar.date": "dates in two orders"},
        frozenset(),
        frozenset(["sum(parcel.declared_value)", "count(parcel)"]),
        frozenset(["parcel.parcel_no"]),
    ),
    Schema(
        "meters", _meters,
        frozenset(["reading.meter -> meter.meter", "meter.meter <-> meter_detail.meter",
                   "reading.(tariff_code, read_on) -> tariff.(tariff_code, effective_from)",
                   "outage.(zone, month) -> zone_month.(zone, month)", "reading.read_on -> calendar.date",
                   "zone_month.month -> calendar.month"]),
        {"reading.reader -> meter.floors": "small numbers"},
        frozenset(),
        frozenset(["sum(reading.units)", "sum(outage.minutes)"]),
        frozenset(["tariff.price_per_unit"]),
    ),
    Schema(
        "orchard (workbook)", _orchard,
        frozenset(['blocks."Variety Code" -> varieties."Code"', 'harvest."Picker Number" -> pickers."Number"',
                   'harvest."Block" -> blocks."Block"', 'harvest."Picked On" -> calendar.date']),
        {'rates."Valid From" -> calendar.date': "from when a rate holds"},
        frozenset(),
        frozenset(['sum(harvest."Crates")', 'sum(harvest."Kilograms")', 'avg(rates."Rate per Crate")']),
        frozenset(['blocks."Planted"', 'harvest."Picker Number"']),
    ),
    Schema("package", _package, frozenset(["tours.y -> crew.a"])),
)  # fmt: skip
LIBRARY = Schema(
    "library (PostgreSQL)", lambda _: [],
    frozenset(["reader.home_branch -> branch.branch_id", "copy.isbn -> work.isbn", "copy.branch -> branch.branch_id",
               "loan.who -> reader.reader_id", "loan.(isbn, copy_number) -> copy.(isbn, number)",
               "loan.lent_on -> calendar.date"]),
    {}, frozenset(["loan.lent_at -> calendar.date"]), frozenset(["sum(loan.days)", "count(loan)"]),
    frozenset(["work.price"]),
)  # fmt: skip


@dataclass(frozen=True)
class Score:
    """How a draft did: of the links that are right how many it drew, of those it drew how many are right."""

    drawn: frozenset[str]
    right: frozenset[str]
    also: frozenset[str]

    @property
    def wrong(self) -> frozenset[str]:
        """The links drawn that are not right."""
        return self.drawn - self.right - self.also

    @property
    def recall(self) -> float:
        """The share of right links that were drawn."""
        return len(self.drawn & self.right) / len(self.right)

    @property
    def precision(self) -> float:
        """The share of links drawn that are right."""
        return 1 - len(self.wrong) / len(self.drawn) if self.drawn else 1.0


def score(declaration: Declaration, right: frozenset[str], also: frozenset[str]) -> Score:
    """Compare the links of a draft with those that are right; a role counts as the table whose rows it has."""
    drawn = set()
    for each in declaration.relationships:
        one = replace(each.one, table=declaration.rows_of(each.one.table))
        drawn.add(_link(each.many, one, re.findall(r" (\S*-\S*) ", str(each))[0]))
    stated = [{_link(*_ends(link)) for link in links} for links in (right, also)]
    return Score(frozenset(drawn), frozenset(stated[0]), frozenset(stated[1]))


def _ends(link: str) -> tuple[End, End, str]:
    many, one, _ = parse_link(link)
    return many, one, re.findall(r" (\S*-\S*) ", link)[0]


def _link(many: End, one: End, arrow: str) -> str:
    pairs = sorted(zip(map(plain, many.columns), map(plain, one.columns), strict=True))
    left, right = (", ".join(each) for each in zip(*pairs, strict=True))
    return f"{many.table}.({left}) {arrow} {one.table}.({right})"


def plain(name: str) -> str:
    """A heading as a name that needs no quotes: ``playerID`` is ``player_id``, ``2B`` is ``b2``."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])|(?<=[0-9])(?=[A-Z][a-z])", "_", name)
    words = [word for word in re.split(r"[^a-z0-9]+", spaced.lower()) if word]
    if words and words[0][0].isdigit():
        words = [*words[1:], words[0]] if len(words) > 1 else [re.sub(r"(\d+)(.*)", r"\2\1", words[0])]
    return "_".join(words)


def plain_formula(formula: str) -> str:
    """A formula with every name in double quotes as one that needs none."""
    return re.sub(r'"([^"]+)"', lambda each: plain(each[1]), formula)


@dataclass(frozen=True)
class Sense:
    """Of the measures drafted those that mean nothing, and those worth having that were not drafted."""

    count: int
    senseless: tuple[str, ...]
    missing: tuple[str, ...]


def sense(declaration: Declaration, schema: Schema) -> Sense:
    """Judge the measures of a draft."""
    formulas = [plain_formula(each.formula) for each in declaration.measures.values()]
    summed = {f"sum({column})" for column in schema.not_summed}
    bad = tuple(each for each in formulas if any(each.startswith(one) for one in summed))
    return Sense(len(formulas), bad, tuple(sorted(set(map(plain_formula, schema.measures)) - set(formulas))))
