"""The model file: faults with their line, saving with comments kept, round trips."""

from __future__ import annotations

import re
import tomllib
from importlib import resources
from pathlib import Path

import pytest
from msgspec import Struct

import relatum
from relatum.model import declaration, entries
from relatum.model.entries import json_schema
from relatum.model.file import read_model
from relatum.model.looks import FORMAT_WORDS
from stall import make_stall

GOOD = """relatum = 1
name = "stall"          # the name
locale = "en_GB"

# facts first
[table.sales]
source = "sales.csv"

[table.product]
source = "product.csv"
key = "product"

[table.product.column.product]
order_by = "price"      # dearest last

[table.product.derived.dear]
formula = "price > 10"

[[relationship]]
link = "sales.product -> product.product"

[measure.revenue]
formula = "sum(sales.quantity * product.price)"
format = "#,##0.00"

[[control]]
measure = "revenue"
at = { "product.product" = "fig" }
equals = 10
"""


@pytest.fixture
def file(tmp_path: Path) -> Path:
    (tmp_path / "sales.csv").write_text("product,quantity\nfig,2\nivy,3\n")
    (tmp_path / "product.csv").write_text("product,price\nfig,5\nivy,7\n")
    (tmp_path / "stall.toml").write_text(GOOD)
    return tmp_path / "stall.toml"


FAULTS = [
    # text to replace, its replacement, the line of the fault, part of the message
    ('relatum = 1', 'relatum = 2', 1, "version is 2; this program reads version 1"),
    ('relatum = 1\n', '', 1, "A model begins with relatum = 1"),
    ('name = "stall"', 'name = 7', 2, "name is 7; it must be text in quotes"),
    ('name = "stall"', 'nam = "stall"', 2, "Unknown key nam.\nDid you mean name?"),
    ('locale = "en_GB"', 'locale = "xx_YY"', 3, "Unknown locale xx_YY"),
    ('locale = "en_GB"', 'locale = ', 3, "This is not TOML"),
    ('source = "sales.csv"', 'sorce = "sales.csv"', 7, "Unknown key sorce.\nDid you mean source?"),
    ('source = "sales.csv"', 'about = "no rows"', 6, "The table sales has no source"),
    ('source = "sales.csv"', 'source = "sale.csv"', None, "sale.csv: There is no such file.\nDid you mean sales.csv?"),
    ('source = "sales.csv"', 'source = "../sales.csv"', 7, "outside the model's folder"),
    ('source = "sales.csv"', 'source = "sales.csv"\nrole_of = "product"', 8, "both source and role_of"),
    ('key = "product"', 'key = 3', 11, "key is 3; it must be text in quotes or a list"),
    ('key = "product"', 'key = "produkt"', 11, "has no column produkt.\nDid you mean product?"),
    ('order_by = "price"', 'order_by = "prize"', 14, "has no column prize"),
    ('order_by = "price"', 'type = "number"', 14, "'number' is not a type"),
    ('order_by = "price"', 'type = "date"', None, "product is 'fig', which is not a date"),
    ('formula = "price > 10"', 'formula = "prize > 10"', 17, "no column prize"),
    ('formula = "price > 10"', 'formula = "sum(price)"', 17, "with its table: product.price"),
    ('formula = "price > 10"', 'formula = "sales.quantity"', 17, "does not match a row of sales"),
    ('[table.product.derived.dear]', '[table.product.derived.price]', 16, "is already a column of the source"),
    ('formula = "price > 10"', 'formula = "dear"', 16, "circle: product.dear -> product.dear"),
    ('link = "sales.product -> product.product"', 'link = "sales.product product.product"', 20, "exactly one '->'"),
    ('link = "sales.product -> product.product"', 'link = "sales.(a, b) -> product.product"', 20, "2 column(s) on the left and 1"),
    ('link = "sales.product -> product.product"', 'link = "sales.product -> produkt.product"', 19, "no table produkt"),
    ('link = "sales.product -> product.product"', 'link = "sales.produkt -> product.product"', 20, "has no column produkt"),
    ('link = "sales.product -> product.product"', 'direction = "down"', 19, "The key link is missing"),
    ('link = "sales.product -> product.product"', 'link = "sales.product -> product.product"\nmatch = "near"', 21, "match is 'near'"),
    ('link = "sales.product -> product.product"', 'link = "sales.product -> product.product"\ndirection = "up"', 21,
     "direction is 'up'; it can be down or both or off"),
    ('[measure.revenue]', '[measure.sales]', 22, "is already the name of a table"),
    ('formula = "sum(sales.quantity * product.price)"', 'formula = "sum(sales.quantity * product.prise)"', 23,
     "^^^^^^^^^^^^^\nDid you mean product.price?"),
    ('format = "#,##0.00"', 'format = "pounds"', 24, "is not a number pattern"),
    ('format = "#,##0.00"', 'unrelated = "maybe"', 24, "unrelated is 'maybe'"),
    ('measure = "revenue"', 'measure = "revenu"', 27, "names the measure revenu"),
]  # fmt: skip


def test_the_good_file_opens(file: Path) -> None:
    model = relatum.open(file)
    assert model.evaluate("revenue") == 31
    assert model.check().ok


@pytest.mark.parametrize(("old", "new", "line", "message"), FAULTS)
def test_a_fault_has_its_line(file: Path, old: str, new: str, line: int | None, message: str) -> None:
    assert old in GOOD
    file.write_text(GOOD.replace(old, new, 1))
    with pytest.raises(relatum.RelatumError) as caught:
        relatum.open(file)
    shown = str(caught.value)
    assert message in shown
    if line is not None:
        assert shown.startswith(f"{file}:{line}: "), shown


@pytest.mark.parametrize(
    ("content", "message"),
    [(None, "no such file"), (b"", "empty"), (b"\xff\xfe\x00", "not a UTF-8 text file"), (b"x = [" + b"[" * 5_000, "not TOML")],
)  # fmt: skip
def test_what_is_no_model_at_all(tmp_path: Path, content: bytes | None, message: str) -> None:
    path = tmp_path / "model.toml"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(relatum.ModelError, match=message):
        relatum.open(path)


def test_saving_keeps_comments_and_order(file: Path) -> None:
    model = relatum.open(file)
    model.measure("quantity", "sum(sales.quantity)")
    model.derive("product", "label", "upper(product)")
    model.save(file)
    text = file.read_text()
    for line in GOOD.splitlines():
        assert line in text.splitlines(), line
    kept = [line for line in text.splitlines() if line in GOOD.splitlines() and line]
    assert kept == [line for line in GOOD.splitlines() if line]
    again = relatum.open(file)
    assert again.declaration == model.declaration
    assert again.evaluate("quantity") == 5


def test_saving_drops_what_is_gone_and_changes_what_changed(file: Path) -> None:
    file.write_text(GOOD.replace('format = "#,##0.00"', 'format = "0"'))
    model = relatum.open(file)
    file.write_text(GOOD + '\n[measure.gone]\nformula = "1"\n')
    model.save(file)
    document = tomllib.loads(file.read_text())
    assert set(document["measure"]) == {"revenue"}
    assert document["measure"]["revenue"]["format"] == "0"
    assert "# dearest last" in file.read_text()


def test_a_saved_model_says_the_same(hollowmere: Path) -> None:
    model = relatum.open(hollowmere)
    copy = hollowmere.with_name("copy.toml")
    model.save(copy)
    assert read_model(copy) == model.declaration
    copy.unlink()


def test_saving_a_frame_is_refused_and_leaves_the_file(file: Path) -> None:
    before = file.read_text()
    with pytest.raises(relatum.ModelError, match="is a frame in memory"):
        make_stall().save(file)
    assert file.read_text() == before
    assert sorted(path.name for path in file.parent.iterdir()) == ["product.csv", "sales.csv", "stall.toml"]


def test_saving_elsewhere_is_refused_unless_allowed(file: Path, tmp_path: Path) -> None:
    (tmp_path / "other").mkdir()
    model = relatum.open(file)
    with pytest.raises(relatum.ModelError, match="outside the folder"):
        model.save(tmp_path / "other" / "stall.toml")
    model.save(tmp_path / "other" / "stall.toml", allow_outside=True)
    assert relatum.open(tmp_path / "other" / "stall.toml", allow_outside=True).evaluate("revenue") == 31
    with pytest.raises(relatum.ModelError, match="no folder"):
        model.save(tmp_path / "nowhere" / "stall.toml")


DEFAULTS = [
    "locale",
    "match",
    "direction",
    "standby",
    "unrelated",
    "digits",
    "values_on",
    "totals",
    "tolerance",
    "footer",
]


def test_a_default_that_a_file_states_stays_there(file: Path) -> None:
    text = file.read_text()
    text = text.replace('locale = "en_GB"', 'locale = "en"').replace(
        'source = "sales.csv"', 'source = "sales.csv"\nfooter = 0'
    )
    text = text.replace(
        "[measure.revenue]",
        'match = "equal"\ndirection = "down"\nstandby = false\n\n[measure.revenue]\nunrelated = "blank"\ndigits = 0',
        1,
    )
    text += '\n[pivot.all]\nvalues = "revenue"\nvalues_on = "columns"\ntotals = true\n\n[[control]]\nmeasure = "revenue"\nequals = 31\ntolerance = 0\n'
    file.write_text(text)
    assert all(re.search(rf"^{each} =", text, re.MULTILINE) for each in DEFAULTS)
    model = relatum.open(file)
    model.measure("pieces", "sum(sales.quantity)")
    model.save(file)
    said = [line for line in text.splitlines() if line]
    assert [line for line in file.read_text().splitlines() if line in said and line] == said


def test_the_schema_that_ships_is_the_one_of_the_code() -> None:
    shipped = resources.files("relatum.model").joinpath("schema.json").read_bytes()
    assert shipped == json_schema(), "write relatum.model.entries.json_schema() to schema.json again"


#: Entries of the file, the records of a declaration that say the same, and what just one of the two has.
PAIRS = [
    (entries.TableEntry, declaration.Table, {"column"}, {"name", "frame", "dated", "formulas"}),
    (entries.ColumnEntry, declaration.ColumnSettings, set(), set()),
    (entries.DerivedEntry, declaration.Derived, {*declaration.BESIDE_FORMULA}, {"name", "stated"}),
    (entries.CalendarEntry, declaration.CalendarRange, set(), set()),
    (entries.RelationshipEntry, declaration.Relationship, {"link"}, {"many", "one", "kind"}),
    (entries.MeasureEntry, declaration.Measure, {*FORMAT_WORDS} - {"format"}, {"name", "writing"}),
    (entries.HierarchyEntry, declaration.Hierarchy, set(), {"name"}),
    (entries.PivotEntry, declaration.SavedPivot, set(), {"name"}),
    (entries.ControlEntry, declaration.Control, set(), set()),
]


@pytest.mark.parametrize(
    ("entry", "record", "only_file", "only_model"), PAIRS, ids=[each[0].__name__ for each in PAIRS]
)
def test_what_the_file_can_say_the_declaration_keeps(
    entry: type[Struct], record: type[Struct], only_file: set[str], only_model: set[str]
) -> None:
    said, kept = set(entry.__struct_fields__), set(record.__struct_fields__)
    assert (said - kept, kept - said) == (only_file, only_model)


WHOLE = """relatum = 1
name = "club"

[table.visit]
source = "visit.csv"

[table.person]
source = "person.csv"
key = "person"

[table.card]
source = "card.csv"

[table.days]
source = "days.csv"
key = "day"
calendar = true

[table.calendar]
calendar = { from = 2024-01-01, to = 2024-12-31, through = "visit.came" }

[table.left_on]
role_of = "calendar"

[table.by_person]
per = ["person.person"]
columns = { visits = "visits", fees = "sum(card.fee)" }

[[relationship]]
link = "visit.person -> person.person"
direction = "both"

[[relationship]]
link = "person.person >-< card.person"
direction = "left"

[[relationship]]
link = "visit.came -> calendar.date"

[[relationship]]
link = "visit.left -> calendar.date"
standby = true

[[relationship]]
link = "visit.left -> left_on.date"

[[relationship]]
link = "by_person.person <-> person.person"

[measure.visits]
formula = "count(visit)"

[measure.so_far]
formula = "visits[year to date on calendar]"
unrelated = "repeat"
"""


@pytest.fixture
def club(tmp_path: Path) -> Path:
    (tmp_path / "visit.csv").write_text(
        "person,came,left\nann,2024-01-05,2024-01-06\nbob,2024-02-01,\nann,2024-02-02,2024-03-01\n"
    )
    (tmp_path / "person.csv").write_text("person\nann\nbob\ncyd\n")
    (tmp_path / "card.csv").write_text("person,fee\nann,3\nann,4\nbob,5\n")
    (tmp_path / "days.csv").write_text("day,open\n2024-01-05,true\n")
    (tmp_path / "club.toml").write_text(WHOLE)
    return tmp_path / "club.toml"


def test_every_kind_of_table_and_relationship_has_its_place_in_the_file(club: Path) -> None:
    model = relatum.open(club)
    assert model.evaluate("visits", "calendar.month = '2024-02'") == 2
    assert model.evaluate("visits[via visit.left]", "calendar.month = '2024-03'") == 1
    assert model.evaluate("so_far", "calendar.month = '2024-02'") == 3
    assert model.evaluate("sum(by_person.visits)") == 3
    assert model.evaluate("count(by_person)") == 2, "cyd has neither visits nor a card, and is left out"
    assert model.evaluate("visits", "card.fee = 4") == 2


def test_every_kind_survives_saving(club: Path) -> None:
    model = relatum.open(club)
    before = club.read_text()
    model.save(club)
    assert club.read_text() == before, "nothing changed, so nothing is rewritten"
    copy = club.with_name("copy.toml")
    model.save(copy)
    assert read_model(copy) == model.declaration


KINDS = [
    ('direction = "left"\n', "", "has no direction"),
    ('direction = "left"', 'direction = "down"', "it can be left or right or both"),
    ('direction = "both"', 'direction = "left"', "it can be down or both or off"),
    (
        'link = "by_person.person <-> person.person"',
        'link = "by_person.person <-> person.person"\nlevel = true',
        "only a many-to-one",
    ),
    ('per = ["person.person"]', 'per = ["person.persn"]', "names person.persn, which is not a column"),
    ('per = ["person.person"]', 'per = ["person.person"]\nsource = "x.csv"', "both source and per"),
    ('per = ["person.person"]\n', "", "no source"),
    ('fees = "sum(card.fee)"', 'fees = "sum(card.fe)"', "has no column fe"),
    ('through = "visit.came"', 'through = "visit.come"', "has no column come"),
    ('through = "visit.came"', "through = 3", "it must be a date column"),
    ('key = "day"\n', "", "its key is not a date"),
    (
        'formula = "visits[year to date on calendar]"',
        'formula = "visits[yaer to date on calendar]"',
        "Did you mean year?",
    ),
    ("standby = true", "standby = 1", "standby is 1; it must be true or false"),
]


@pytest.mark.parametrize(("old", "new", "message"), KINDS)
def test_what_a_kind_does_not_allow(club: Path, old: str, new: str, message: str) -> None:
    assert old in WHOLE
    club.write_text(WHOLE.replace(old, new, 1))
    with pytest.raises(relatum.RelatumError) as caught:
        relatum.open(club)
    assert message in str(caught.value)
    assert str(caught.value).startswith(str(club)), str(caught.value)


MORE = """relatum = 1
name = "more"

[table.sales]
source = "sales.csv"                # said by a person

[table.sales.column.many]
heading = "quantity"

[table.sales.column.day]
type = "date"
pattern = "dd.MM.yyyy"

[table.product]
source = "product.csv"
key = "product"

[[relationship]]
link = "product.product <- sales.product"

[hierarchy.range]
levels = ["product.kind", "product.product"]
about = "from coarse to fine"
"""


def test_settings_of_sources_and_hierarchies_come_back(tmp_path: Path) -> None:
    (tmp_path / "sales.csv").write_text("product,quantity,day\nfig,2,31.12.2023\nivy,3,01.02.2024\n")
    (tmp_path / "product.csv").write_text("product,kind\nfig,fruit\nivy,climber\n")
    (tmp_path / "more.toml").write_text(MORE)
    model = relatum.open(tmp_path / "more.toml")
    assert model.evaluate("sum(sales.many)") == 5
    assert str(model.evaluate("max(sales.day)")) == "2024-02-01"
    assert str(model.declaration.relationships[0]) == "sales.product -> product.product"
    grid = model.pivot(rows="range", values="n: sum(sales.many)")
    assert grid.to_arrow().column_names == ["product.kind", "product.product", "n"]
    assert (
        grid.to_arrow() == model.pivot(rows=["product.kind", "product.product"], values="n: sum(sales.many)").to_arrow()
    )
    model.save(tmp_path / "more.toml")
    text = (tmp_path / "more.toml").read_text()
    assert text == MORE, "a link that is said the other way round, and every comment, stay"
    assert relatum.open(tmp_path / "more.toml").declaration == model.declaration
    model.save(tmp_path / "fresh.toml")
    assert relatum.open(tmp_path / "fresh.toml").declaration == model.declaration


MORE_FAULTS = [
    ('levels = ["product.kind", "product.product"]', 'levels = ["product.kind"]', 23, "needs at least two levels"),
    ('"product.kind", ', '"kind", ', 23, "names kind, which is not a column"), ('"product.kind", ', '"shop.kind", ', 23, "no table shop"),
    ('"product.kind", ', '"product.product", ', 23, "names product.product twice"), ("hierarchy.range", "hierarchy.sales", 23, "is already the name of a table"),
    ('heading = "quantity"', 'heading = "number"', 8, "no column number, called many"), ('column.many', 'column.product', 8, "sales already has a column product"),
    ('pattern = "dd.MM.yyyy"', 'pattern = "dd.MM"', 12, "not a date pattern"), ('type = "date"', 'type = "text"', 12, "has a date pattern but not a date type"),
    ('source = "product.csv"', 'query = "select 1"', 15, "a query but no source"), ('source = "product.csv"', 'source = "product.csv"\npart = "x"', 15, "no part 'x'"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "line", "message"), MORE_FAULTS)
def test_faults_of_sources_and_hierarchies_have_their_line(
    tmp_path: Path, old: str, new: str, line: int, message: str
) -> None:
    (tmp_path / "sales.csv").write_text("product,quantity,day\nfig,2,31.12.2023\n")
    (tmp_path / "product.csv").write_text("product,kind\nfig,fruit\n")
    assert old in MORE
    (tmp_path / "more.toml").write_text(MORE.replace(old, new))
    with pytest.raises(relatum.RelatumError) as caught:
        relatum.open(tmp_path / "more.toml")
    assert message in str(caught.value)
    where = str(caught.value).split(": ")[0]
    near = range(line - 3, line + 4)
    assert any(where.endswith(f":{number}") for number in near) or where.endswith(".csv"), where
