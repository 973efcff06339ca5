"""Which numbers add up, which are averaged, and which are not numbers at all."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from relatum.data.types import Kind
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import Measure
from relatum.model.names import column_name, quoted
from relatum.model.words import (
    core,
    is_amount,
    is_counted,
    is_measured,
    is_ordinal,
    is_rate,
    is_share_or_amount,
    is_stock,
    looks_like_key,
    plural,
    row_count_name,
    singular,
    subject,
    sum_name,
    words,
)
from relatum.wording import counted

_QUANTITIES = frozenset("quantity qty units pieces".split())
_MONEY = frozenset("price cost amount revenue sales value total target budget paid payment margin turnover fee".split())


#: The number of measures of a fact that become part of the model; the rest are comments.
_MOST = 12


class Namer:
    """Gives each measure a name that no table and no other measure has."""

    def __init__(self, taken: set[str]) -> None:
        self.taken = taken

    def name(self, wanted: str, table: str) -> str:
        """The name wanted, or with the table's before it."""
        choices = [wanted, f"{table}_{wanted}", *(f"{table}_{wanted}_{number}" for number in range(2, 99))]
        name = next(each for each in choices if each not in self.taken)
        self.taken.add(name)
        return name


def adds_up(table: TableProfile, column: ColumnProfile, key: tuple[str, ...]) -> bool:
    """Whether a column surely holds amounts that add up, by its type and name."""
    return (
        column.type.numeric
        and column.name not in key
        and is_amount(column.name)
        and not (is_rate(column.name) or is_stock(column.name) or is_share_or_amount(column.name))
        and not (column.is_year or is_ordinal(column.name) or _names_rows(table, column))
    )


def fact_measures(
    table: TableProfile, linked: set[str], key: tuple[str, ...], calendar: str, namer: Namer, *, surely: bool = False
) -> Iterator[Proposal]:
    """Measures of a fact.

    Parameters
    ----------
    table : TableProfile
        The fact.
    linked : set of str
        Its columns that a relationship uses.
    key : tuple of str
        Its key: the orders of order lines are counted, and nothing of a key is added up.
    calendar : str
        The column by which its time passes, as ``calendar.date``; empty where it has none.
    namer : Namer
        Gives names.
    surely : bool
        Just the numbers that surely add up: other tables look this one up, and most of what it has describes it.
    """
    rows = namer.name(row_count_name(table.name), table.name)
    yield _measure(rows, f"count({quoted(table.name)})", "#,##0", 0.99, f"{counted(table.rows, 'row')}")
    for column in table.columns.values():
        if column.name in linked:
            continue
        if surely and not adds_up(table, column, key):
            continue
        where = column_name(table.name, column.name)
        if column.type.numeric and column.name not in key:
            yield from _number(table, column, where, calendar, namer)
        if looks_like_key(column.name) and not column.unique and column.type.kind in (Kind.INTEGER, Kind.TEXT):
            said = f"{counted(column.distinct, 'value')} on {counted(column.rows, 'row')}, with no table of their own"
            yield Proposal("note", where, f"{where} stays in the fact: it identifies things", 0.0, said)
            wanted = plural("_".join(core(column.name)) or column.name)
            name = namer.name(f"distinct_{wanted}" if wanted in namer.taken else wanted, table.name)
            yield _measure(name, f"count(distinct {where})", "#,##0", 0.9, said)


def best_first(found: Iterable[Proposal]) -> list[Proposal]:
    """The measures of a fact, the best of them first; those past about a dozen become comments."""
    ordered = sorted(found, key=lambda each: (each.kind == "measure", -each.confidence))
    measures = [each for each in ordered if each.kind == "measure"]
    kept = {id(each) for each in measures[:_MOST]}
    doubt = f"{counted(len(measures), 'number')} are in this table: uncomment the ones you want"
    return [
        each if each.kind != "measure" or id(each) in kept or not each.active
        else replace(each, confidence=0.7, doubt=doubt)
        for each in ordered
    ]  # fmt: skip


def _names_rows(table: TableProfile, column: ColumnProfile) -> bool:
    """Whether whole numbers are called like a row of their table: the flight of flights is a number that names."""
    own = subject(table.name)
    whole = column.type.kind is Kind.INTEGER and not is_amount(column.name)
    return whole and tuple(map(singular, words(column.name))) == own[-len(words(column.name)) :]


def _number(table: TableProfile, column: ColumnProfile, where: str, calendar: str, namer: Namer) -> Iterator[Proposal]:
    name = sum_name(table.name, column.name)
    if column.is_year or is_ordinal(column.name) or column.clock or _names_rows(table, column):
        if not looks_like_key(column.name):
            what = "it holds times of day" if column.clock else "it numbers or orders things"
            yield Proposal("note", where, f"{where} is not summed: {what}", 0.0, f"its values are {column.sample()}")
        return
    pattern = "#,##0.00" if set(words(column.name)) & _MONEY and column.type.kind is not Kind.INTEGER else "#,##0.##"
    if is_measured(column.name):
        evidence = "its name suggests a measurement at one moment or place, where a sum means nothing"
        yield _measure(namer.name(f"average_{name}", table.name), f"avg({where})", pattern, 0.86, evidence)
        return
    if is_rate(column.name):
        evidence = "its name suggests a price, rate or share, where a sum means nothing"
        yield _measure(namer.name(f"average_{name}", table.name), f"avg({where})", pattern, 0.9, evidence)
        return
    if is_share_or_amount(column.name):
        yield from _share_or_amount(table, column, where, name, pattern, namer)
        return
    if is_stock(column.name):
        formula = f"sum({where})[pin last {calendar}]" if calendar else f"sum({where})"
        evidence = "counted at a moment: added over things, but the last value over time"
        doubt = "" if calendar else "no column says at which moment"
        yield _measure(namer.name(name, table.name), formula, "#,##0.##", 0.85 if calendar else 0.6, evidence, doubt)
        return
    sure = is_counted(column.name)
    evidence = f"numbers {column.sample()}, …" + ("; its name suggests that they add up" if sure else "")
    yield _measure(namer.name(name, table.name), f"sum({where})", pattern, 0.96 if sure else 0.85, evidence)


def _share_or_amount(
    table: TableProfile, column: ColumnProfile, where: str, name: str, pattern: str, namer: Namer
) -> Iterator[Proposal]:
    """A discount, tax or margin: fractions are averaged, large numbers added; up to a hundred nobody knows."""
    largest = column.largest
    if largest <= 1:
        evidence = f"fractions up to {largest:g}: a share, where a sum means nothing"
        yield _measure(namer.name(f"average_{name}", table.name), f"avg({where})", "0.0%", 0.9, evidence)
    elif largest > 100:
        yield _measure(namer.name(name, table.name), f"sum({where})", pattern, 0.85, f"amounts up to {largest:,.0f}")
    else:
        doubt = "it may be an amount, which adds up, or a percentage, which does not"
        yield _measure(
            namer.name(name, table.name), f"sum({where})", pattern, 0.6, f"numbers {column.sample()}, …", doubt
        )


def lookup_averages(table: TableProfile, linked: set[str], namer: Namer) -> Iterator[Proposal]:
    """Averages of the prices and rates of a table whose rows hold from a date on."""
    for column in table.columns.values():
        if column.type.numeric and column.name not in linked and is_rate(column.name):
            where = column_name(table.name, column.name)
            name = namer.name("average_" + "_".join(words(column.name)), table.name)
            yield _measure(
                name, f"avg({where})", "#,##0.00", 0.9, "a price, rate or share, averaged over rows of the list"
            )


def priced(fact: TableProfile, prices: TableProfile, namer: Namer) -> Iterator[Proposal]:
    """A quantity times a price that each of its rows finds: what it would be, for a person to decide."""
    quantities = [each for each in fact.columns if set(words(each)) & _QUANTITIES]
    named = [each.name for each in prices.columns.values() if "price" in words(each.name) and each.type.numeric]
    for quantity in quantities[:1]:
        for price in named[:1]:
            formula = f"sum({column_name(fact.name, quantity)} * {column_name(prices.name, price)})"
            evidence = f"each row of {quoted(fact.name)} has one {price}"
            doubt = "a guess from the names: check that it is what you mean"
            yield _measure(namer.name("revenue", fact.name), formula, "#,##0.00", 0.7, evidence, doubt)


def sold(fact: TableProfile, namer: Namer) -> Iterator[Proposal]:
    """A quantity times a price in the same row, where no column says what they come to."""
    quantities = [each for each in fact.columns.values() if set(words(each.name)) & _QUANTITIES and each.type.numeric]
    prices = [each for each in fact.columns.values() if "price" in words(each.name) and each.type.numeric]
    if len(quantities) != 1 or len(prices) != 1 or any(_comes_to(each) for each in fact.columns.values()):
        return
    formula = f"sum({column_name(fact.name, quantities[0].name)} * {column_name(fact.name, prices[0].name)})"
    less = next((each.name for each in fact.columns.values() if is_share_or_amount(each.name)), "")
    doubt = f"{less} may need to be subtracted" if less else ""
    evidence = "each row has a quantity and a price"
    yield _measure(namer.name("revenue", fact.name), formula, "#,##0.00", 0.7 if less else 0.85, evidence, doubt)


def _comes_to(column: ColumnProfile) -> bool:
    money = set(words(column.name)) & {"amount", "total", "revenue", "sales", "turnover", "value", "subtotal"}
    return column.type.numeric and bool(money)


def _measure(name: str, formula: str, pattern: str, confidence: float, evidence: str, doubt: str = "") -> Proposal:
    measure = Measure(name, formula, pattern)
    return Proposal(
        kind="measure",
        subject=name,
        statement=formula,
        confidence=confidence,
        evidence=evidence,
        doubt=doubt,
        content=measure,
    )
