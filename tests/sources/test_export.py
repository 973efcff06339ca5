"""The tables for other programs: a Data Package, and SQL that databases take."""

from __future__ import annotations

import json
from pathlib import Path

import duckdb
import pytest

import relatum
from postgres import Server
from stall import make_stall, run


@pytest.fixture
def described(hollowmere: Path) -> Path:
    """The demo's descriptor, beside its data."""
    path = hollowmere.with_name("datapackage.json")
    relatum.open(hollowmere).export(path)
    yield path  # type: ignore[misc]
    path.unlink()


def test_a_data_package_out_and_in(described: Path, nursery: relatum.Model) -> None:
    document = json.loads(described.read_text())
    assert document["$schema"] == "https://datapackage.org/profiles/2.0/datapackage.json"
    resources = {each["name"]: each for each in document["resources"]}
    assert set(resources) == {"sales", "quota", "stock", "product", "category", "price", "customer"}
    assert resources["price"]["schema"]["primaryKey"] == ["product_id", "valid_from"]
    assert resources["product"]["path"] == "product.csv"
    assert resources["product"]["schema"]["foreignKeys"] == [
        {"fields": ["category_id"], "reference": {"resource": "category", "fields": ["category_id"]}}
    ]
    types = {field["name"]: field["type"] for field in resources["sales"]["schema"]["fields"]}
    assert types["sold_on"] == "date"
    draft = relatum.draft(described)
    declared = {str(each) for each in draft.declaration.relationships if "calendar" not in str(each)}
    assert declared == {str(each) for each in nursery.declaration.relationships if "calendar" not in str(each)}
    assert all(
        each.evidence == "declared by the source"
        for each in draft.proposals
        if each.kind == "relationship" and each.confidence == 1
    )
    assert draft.model().evaluate("quantity") == nursery.evaluate("quantity")


def test_a_renamed_column_is_described_as_its_source_names_it(hollowmere: Path, tmp_path: Path) -> None:
    model = relatum.open(hollowmere)
    model.rename("product.product_id", "id")
    path = hollowmere.with_name("renamed.json")
    model.export(path)
    resources = {each["name"]: each for each in json.loads(path.read_text())["resources"]}
    path.unlink()
    assert resources["product"]["schema"]["primaryKey"] == ["product_id"]
    assert resources["stock"]["schema"]["foreignKeys"][0]["reference"]["fields"] == ["product_id"]


def test_duckdb_takes_the_tables(hollowmere: Path, nursery: relatum.Model, tmp_path: Path) -> None:
    assert run("export", hollowmere, "-o", tmp_path / "create.sql").exit_code == 0
    described = run("export", hollowmere, "-o", hollowmere.with_name("d.json"))
    hollowmere.with_name("d.json").unlink()
    assert "left out because they are not files: calendar" in described.stderr
    connection = duckdb.connect()
    connection.execute((tmp_path / "create.sql").read_text())
    for name in connection.sql("select table_name from duckdb_tables()").fetchall():
        assert name[0] in nursery.declaration.tables
    data = {name: nursery.session.data[name] for name in ("category", "product", "customer")}
    for name, rows in data.items():
        frame = {column: rows.column(column) for column in rows.types}
        assert connection.sql(f"describe {name}").fetchall()[0][0] == next(iter(frame))
    foreign = connection.sql(
        "select count(*) from duckdb_constraints() where constraint_type = 'FOREIGN KEY'"
    ).fetchall()
    assert foreign == [(5,)], "those that hold; the others stand as comments"


def test_postgresql_takes_the_tables(server: Server, tmp_path: Path) -> None:
    model = make_stall()
    model.add_role("paid_calendar", "calendar")
    model.rename("product.weight", "order")
    model.export(tmp_path / "create.sql")
    text = (tmp_path / "create.sql").read_text()
    assert '"order" decimal(18, 1)' in text
    assert text.index("create table kind") < text.index("create table product") < text.index("create table sales")
    server.execute(f"create schema stall; set search_path to stall; {text}")


@pytest.mark.parametrize(
    ("name", "message"),
    [
        ("x.txt", "Cannot export to files"),
        ("x.json", "No table of this model comes from a file"),
        ("no/x.json", "There is no folder"),
    ],
)
def test_what_cannot_be_exported(tmp_path: Path, name: str, message: str) -> None:
    with pytest.raises(relatum.ModelError, match=message):
        make_stall().export(tmp_path / name)


PACKAGES = [
    ("[]", "not a Data Package descriptor"), ('{"resources": [{"name": "a"}]}', "has no path"), ('{"resources": [{"name": "a", "path": "https://x/y.csv"}]}', "lies elsewhere"),
    ('{"resources": [{"name": "a", "path": "gone.csv"}]}', "no such file"), ('{"resources": [{"name": "a", "path": "a.csv", "schema": "s.json"}]}', "is in another file"),
    ('{"resources": [{"name": "a", "path": "a.csv", "schema": {"foreignKeys": [{"fields": "x", "reference": {"resource": "b", "fields": "x"}}]}}]}', "names b, which is not a resource"),
    ('{"resources": [{"name": "a", "path": ["a.csv", "z.csv"]}]}', "cannot be matched by one pattern"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "message"), PACKAGES)
def test_descriptors_that_cannot_be_read(tmp_path: Path, text: str, message: str) -> None:
    (tmp_path / "datapackage.json").write_text(text)
    for name in ("a", "b", "z"):
        (tmp_path / f"{name}.csv").write_text("x\n1\n")
    with pytest.raises(relatum.SourceError, match=message):
        relatum.draft(tmp_path / "datapackage.json")


def test_a_declared_type_is_kept(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("code,day,n\n12,2024-01-01,1\n7,2024-01-02,2\n")
    fields = [{"name": "code", "type": "string"}, {"name": "day", "type": "string"}, {"name": "n", "type": "number"}]
    document = {"resources": [{"name": "a", "path": "a.csv", "schema": {"fields": fields, "primaryKey": "code"}}]}
    (tmp_path / "datapackage.json").write_text(json.dumps(document))
    draft = relatum.draft(tmp_path)
    draft.save(tmp_path / "m.toml")
    model = relatum.open(tmp_path / "m.toml")
    assert {name: str(type_) for name, type_ in model.session.catalog.columns("a").items()} == {
        "code": "text",
        "day": "text",
        "n": "integer",
    }


def test_several_files_make_one_resource(tmp_path: Path) -> None:
    for number in (1, 2):
        (tmp_path / f"part-{number}.csv").write_text(f"x\n{number}\n")
    (tmp_path / "datapackage.json").write_text(
        '{"resources": [{"name": "parts", "path": ["part-1.csv", "part-2.csv"], "schema": {"fields": [{"name": "x", "type": "integer"}]}}]}'
    )
    assert relatum.draft(tmp_path).model().evaluate("sum(parts.x)") == 3
