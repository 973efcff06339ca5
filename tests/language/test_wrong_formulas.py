"""Slips, and the sentence that each one earns: a table of formula, the stretch under the carets, reason and fix."""

from __future__ import annotations

import pytest

import relatum

SLIPS = [
    # the text, the part above the carets, part of the reason, part of the fix
    ("", " ", "empty", ""),
    ("sum(sales.quantity", "", "ends too early", "A bracket is not closed"),
    ("sum(sum(sales.quantity", "", "ends too early", "2 brackets are not closed"),
    ("sum(sales.quantity))", ")", "cannot be used here", "has no opening bracket"),
    ("1 +", "", "ends too early", "Expected a number, a column, a measure or an aggregate next"),
    ("1 2", "2", "cannot be used here", "operator or a comma is missing"),
    ("(1, 2)", ",", "cannot be used here", "operator"),
    ("1 == 2", "=", "cannot be used here", "Use a single equals sign"),
    ("sales.paid && true", "&", "not part of the language", "Write and"),
    ("2 ^ 3", "^", "not part of the language", "power(x, y)"),
    ("2 ** 3", "*", "cannot be used here", "power(x, y)"),
    ("{1}", "{", "not part of the language", "round brackets"),
    ("`sales`.quantity", "`", "not part of the language", "double quotes"),
    ("sum([sales].quantity)", "[", "cannot be used here", "without brackets. Write sum(sales.quantity)"),
    ("1;", ";", "not part of the language", "no semicolon"),
    ("'fern", "'fern", "never closed", "Close it with '"),
    ('"fern', '"fern', "never closed", 'Close it with "'),
    ("case when true then 1", "", "ends too early", "Close the case with end"),
    ("case when true 1 end", "1", "cannot be used here", "Write then after when and its condition"),
    ("when + 1", "when", "word of the language", 'double quotes: "when"'),
    ("date '2024-13-01'", "date '2024-13-01'", "not a date", "date '2024-05-31'"),
    ("timestamp 'noon'", "timestamp 'noon'", "not a timestamp", "timestamp '2024-05-31 17:30:00'"),
    ("99999999999999999999", "99999999999999999999", "does not fit in 64 bits", "99999999999999999999e0"),
    ("0.1234567890123456789", "0.1234567890123456789", "does not fit", "0.1234567890123456789e0"),
    ("product.price", "product.price", "has a value for each row of product", "sum(product.price)"),
    ("sum(sales.quantity) * product.price", "product.price", "one value is needed", "sum(sales.… * product.price)"),
    ("product.kind", "product.kind", "has a value for each row", "count(distinct product.kind over sales)"),
    ("sales", "sales", "is a table", "count(sales)"),
    ("price", "price", "with its table", ""),
    ("revenu", "revenu", "no measure revenu", "Did you mean revenue?"),
    ('"North"', '"North"', "Unknown name", "single quotes: 'North'"),
    ("sum(sale.quantity)", "sale.quantity", "no table sale", "Did you mean sales?"),
    ("sum(sales.quantty)", "sales.quantty", "has no column quantty", "Did you mean sales.quantity?"),
    ("sum(sales.price)", "sales.price", "has no column price", "Did you mean product.price?"),
    ("average(sales.quantity)", "average", "Unknown function average", "avg(x)"),
    ("sume(sales.quantity)", "sume", "Unknown function sume", "Did you mean sum?"),
    ("iif(true, 1, 2)", "iif", "Unknown function iif", "case when"),
    ("nonsense(1)", "nonsense", "Unknown function nonsense", "Known:"),
    ("sum(sales.note)", "sales.note", "but a number is needed", "count(sales.note) counts values"),
    ("sum(sales.sold_on)", "sales.sold_on", "This is a date", ""),
    ("sum(sum(sales.quantity))", "sum(sum(sales.quantity))", "No column is mentioned", "per sales"),
    ("sum(revenue)", "sum(revenue)", "No column is mentioned", "… per sales, or the rows: … over sales"),
    ("sum(sales.quantity * target.amount)", "sum(sales.quantity * target.amount)", "no relationship leads", "Add a relationship"),
    ("sum(customer.region = product.kind)", "customer.region = product.kind", "but a number is needed", ""),
    ("count(customer.region || product.kind)", "count(customer.region || product.kind)", "No row of customer or product",
     "add over sales"),
    ("sum(product.price over target)", "product.price", "does not match a row of product", ""),
    ("count(sales over product)", "count(sales over product)", "but over names another", ""),
    ("sum(1)", "sum(1)", "No column is mentioned", "over"),
    ("sum(sales.quantity, 2)", "sum(sales.quantity, 2)", "cannot be written like this", "Write sum(sales.quantity)"),
    ("sum(distinct sales.quantity)", "sum(distinct sales.quantity)", "cannot be written like this", ""),
    ("first(sales.quantity)", "first(sales.quantity)", "cannot be written like this", "Write first(sales.quantity by sales.sold_on)"),
    ("percentile(sales.quantity)", "percentile(sales.quantity)", "cannot be written like this", "percentile(0.9 of sales.quantity)"),
    ("percentile(90 of sales.quantity)", "90", "number from 0 to 1", ""),
    ("sole(1)", "1", "takes a column", "sole(table.column)"),
    ("abs()", "abs()", "0 argument", "abs(x)"),
    ("abs(1, 2)", "abs(1, 2)", "2 argument", "abs(x)"),
    ("abs(1 by 2)", "2", "only its arguments", "abs(x)"),
    ("1 + 'a'", "'a'", "This is text, but a number is needed", ""),
    ("'a' = 1", "1", "cannot be compared", "without quotes"),
    ("sum(sales.quantity) = '2024-01-01'", "'2024-01-01'", "cannot be compared", ""),
    ("max(sales.sold_on) = '2024-01-01'", "'2024-01-01'", "A date and text cannot be compared", "date '2024-05-31'"),
    ("not 1", "1", "but a condition is needed", ""),
    ("case when 1 then 2 end", "1", "but a condition is needed", ""),
    ("case when true then 1 else 'a' end", "'a'", "cannot be results of one case", ""),
    ("upper(1)", "1", "but text is needed", ""),
    ("'a' like max(sales.note)", "max(sales.note)", "pattern must be a text constant", ""),
    ("substring('a', 0)", "0", "first character is number 1", ""),
    ("round(1.5, sum(sales.quantity))", "sum(sales.quantity)", "whole-number constant", ""),
    ("year(2024)", "2024", "but a date is needed", ""),
    ("max(sales.sold_on) * 2", "max(sales.sold_on)", "number is needed", ""),
    ("max(sales.sold_on) + max(sales.sold_on)", "max(sales.sold_on)", "moved only by a whole number of days", ""),
    ("quantity[", "", "ends too early", ""),
    ("quantity[product.kind = 'fern']", ".", "cannot be used here", "A condition comes after where"),
    ("quantity[bak 1 year]", "bak", "cannot be used here", "Did you mean back?"),
    ("quantity[whre product.kind = 'fern']", "whre", "cannot be used here", "Did you mean where?"),
    ("quantity[2024]", "2024", "cannot be used here", "hold changes: where and a condition"),
    ("quantity[back 1 year", "", "ends too early", "A bracket is not closed"),
    ("quantity[]", "]", "cannot be used here", "Square brackets hold changes"),
    ("quantity[back 1 yaer]", "yaer", "cannot be used here", "Did you mean year?"),
    ("quantity[back year]", "year", "cannot be used here", "Expected a whole number"),
    ("quantity[back 0 years]", "0", "whole number above 0", ""),
    ("quantity[back 1.5 years]", "1.5", "whole number above 0", ""),
    ("quantity[year to dat]", "dat", "cannot be used here", "Did you mean date?"),
    ("quantity[whole fortnight]", "fortnight", "cannot be used here", "Known: day"),
    ("quantity[back 1 year on customer]", "customer", "customer is not a calendar", ""),
    ("quantity[last year]", "year", "cannot be used here", "Write quantity[back 1 year]."),
    ("quantity[ytd]", "]", "cannot be used here", "Write quantity[year to date]."), ("1 + quantity[FYTD]", "]", "cannot", "Write 1 + quantity[fiscal_year to date]."),
    ("quantity[fiscal year to date]", "year", "cannot be used here", "Write quantity[fiscal_year to date]."), ("quantity[qoq]", "]", "cannot", "Write growth(quantity over 1 quarter)."),
    ("quantity[last 3 months] / quantity[all]", "3", "cannot be used here", "Write quantity[trailing 3 months] / quantity[ignoring all]."), ("quantity[2 years ago]", "2", "cannot", "Write quantity[back 2 years]."),
    ("quantity where sales.paid and customer.region = 'a'", "where", "cannot be used", "Write quantity[where sales.paid and customer.region = 'a']."),
    ("sum(sales.quantity where sales.paid)", "where", "cannot be used", "Write sum(sales.quantity)[where sales.paid]."), ("[revenue] / 2", "[", "cannot be used", "Write revenue / 2."),
    ("sum(case when sales.sold_on > timestamp '2024-01-01 00:00:00' then 1 end)", "timestamp '2024-01-01 00:00:00'", "cannot be compared", "is date(timestamp '2024-01-01 00:00:00')."),
    ("quantity[where sales.sold_on]", "sales.sold_on", "a condition is needed", "Compare it: sales.sold_on >= date"), ("quantity[where sales.quantity]", "sales.quantity", "is needed", "Compare it: sales.quantity > 0."),
    ("quantity[where sum(sales.quantity) > 3]", "sum(sales.quantity)", "cannot contain an aggregate", "[keep product where sum(sales.quantity) > …]"),
    ("quantity[where revenue > 3]", "revenue", "is a measure", "in the formula's brackets: revenue[keep product where revenue > …]"),
    ("count(sales[where sales.quantity > 1])", "sales", "is a table, but a value is needed", "count(sales)[where …] some of them"), ("revenue as r", "as", "cannot be used here", "with a colon: label: formula"),
    ("count(*)", "*", "cannot be used here", "count needs a table or a value: count(table)"), ("quantity[keep top 1 product]", "]", "cannot be used", "Write keep top 1 product by …"),
    ("cast(1 as moment)", "moment", "Cannot cast to moment", "integer, decimal(2)"), ("cast(1, 2)", "cast", "Unknown function cast", "cast(x as integer)"),
    ("cast(1 as date)", "1", "never be a date", ""), ("extract(moon from date '2024-01-01')", "moon", "no part moon", "year, quarter"),
    ("hour(date '2024-01-01')", "date '2024-01-01'", "no time of day", "timestamp"), ("date(2024, 1)", "1", "year, month and day", "date(y, m, d)"),
    ("date(2024, 1, 'x')", "'x'", "whole number", ""), ("sum(1 as text)", "sum", "cannot be written like this", "cast(x as integer)"),
    ("timestamp '2024-01-01 10:00:00Z'", "timestamp '2024-01-01 10:00:00Z'", "includes a time zone", "leave the zone out"),
    ("quantity[where product.kind = 'a' or sales.paid over sales]", "sales", "a whole part of a condition", "Put the part in brackets"),
    ("quantity[where kynd = 'a']", "kynd", "no column kynd", "Did you mean product.kind"), ("sum((sales.quantity over sales))", "sales", "whole part", "sum(… over sales)"),
    ("quantity[where customer.region = product.kind]", "customer.region = product.kind", "No row of customer or product", "over sales"),
    ("quantity[where product.kind]", "product.kind", "a condition is needed", "Compare it"),
    ("quantity[pin product.kind]", "]", "cannot be used here", "Write = value"),
    ("quantity[pin product.kind = 3]", "3", "cannot be compared", "Write numbers without quotes"),
    ("quantity[pin product.kind = product.product]", "product.product", "to a value, not to another column", "Use where to compare"),
    ("quantity[pin product = 'fig']", "product", "Expected a column", "table.column"),
    ("quantity[pin product.kind is nothing here]", "nothing here", "null or no match", ""),
    ("quantity[pin second product.kind]", "second", "cannot be used here", "first"),
    ("quantity[ignoring products]", "products", "no table products", "Did you mean product?"),
    ("quantity[ignoring product.kid]", "product.kid", "no column kid", "product.kind"),
    ("quantity[only axes]", "axes", "no table axes", ""),
    ("quantity[ignoring product customer]", "customer", "cannot be used here", ""),
    ("count(sales) = 0", "count(sales) = 0", "count(sales) is null where there are no rows, so this never holds", "Write count(sales) is null"),
    ("case when 1 > count(sales) then 1 end", "1 > count(sales)", "so this never holds", "is null"), ("count(sales)[where sales.paid] in (0)", "count(sales)[where sales.paid] in (0)", "so this never holds", "is null"),
    ("quantity[via sales.sold_on]", "sales.sold_on", "No standby relationship has sales.sold_on as its many side", "standby = true"),
    ("quantity[both ways product.price]", "product.price", "No relationship has product.price as its many side", "Available: sales.product, sales.customer"),
    ("quantity[both weys sales.product]", "weys", "cannot be used here", "ways"),
    ("quantity[keep product where quantity]", "quantity", "a condition is needed", "Compare it"),
    ("quantity[keep best 3 product by quantity]", "best", "cannot be used here", "Known: bottom, top"),
    ("quantity[keep top product by quantity]", "product", "cannot be used here", "Expected a whole number"),
    ("quantity[keep sales where quantity > 3]", "sales", "has no key", "Give it a key"),
    ("avg(quantity per sales)", "sales", "has no key", "name a column"),
    ("avg(quantity per)", ")", "cannot be used here", "name of a table or column"),
    ("avg(quantity per (product.kind, product.kind))", "product.kind, product.kind", "twice", ""),
    ("avg(product.price per product.kind)", "product.price", "has a value for each row", "sum(product.price)"),
    ("first(quantity by quantity per product)", "first(quantity by quantity per product)", "cannot be written like this", ""),
    ("abs(quantity per product)", "product", "only its arguments", "abs(x)"),
    ("rank(quantity)", "rank(quantity)", "cannot be written like this", "Write rank(quantity among product)"),
    ("running(quantity among product)", "running(quantity among product)", "needs an order", "Write running(quantity among product by quantity desc)"),
    ("running(quantity among product by quantity up)", "up", "not a direction", "asc or desc"),
    ("sum(quantity among product)", "sum(quantity among product)", "cannot be written like this", "Write sum(quantity)"),
    ("let x = 1", "", "ends too early", "Write then after the names of a let"),
    ("let x = 1 then y", "y", "no measure y", ""),
    ("product is no match", "product is no match", "applies to a row", "where product is no match"),
    ("count(sales)[where product is not match]", "]", "cannot be used here", ""),
    ("count(sales)[where product is a match]", "a match", "null, not null or no match", ""),
    ("keep + 1", "keep", "word of the language", 'double quotes: "keep"'),
    ("sum(target.amount)[where (product.kind = 'fern')]", "where (product.kind = 'fern')", "reaches no aggregate", "relate the tables"),
    ("sum(target.amount)[pin product.kind = 'fern']", "pin product.kind = 'fern'", "reaches no aggregate", "relate the tables"),
    ("let q = quantity then q[where product.kind = 'fern']", "where product.kind = 'fern'", "reaches no aggregate", "without an aggregate"),
    ("sum(target.amount)[pin last product.kind]", "pin last product.kind", "reaches no aggregate", "relate the tables"),
    ("0.1234567891 * 0.1234567891", "0.1234567891", "20 digits after the point", "Round one side"),
]  # fmt: skip

CONDITIONS = [
    ("sum(sales.quantity) > 1", "sum(sales.quantity) > 1"[:19], "cannot contain an aggregate", ""),
    ("sales.quantity", "sales.quantity", "a condition is needed", "Compare it"),
    ("revenue > 1", "revenue", "is a measure", ""),
    ("1 = 1", "1 = 1", "No column is mentioned", ""),
    ("customer.region = \"North\"", '"North"', "Unknown name", "single quotes: 'North'"),
    ("customer.region = product.kind", "customer.region = product.kind", "No row of customer or product", "add over sales"),
    ("sales.quantity > 1,", ",", "cannot be used here", ""),
]  # fmt: skip


def carets(message: str) -> str:
    """The stretch of the formula that the carets are under."""
    lines = message.splitlines()
    at = next(number for number, line in enumerate(lines) if line.strip() and set(line.strip()) == {"^"})
    start = lines[at].index("^")
    return lines[at - 1][start : start + lines[at].count("^")]


@pytest.mark.parametrize(("formula", "pointed", "reason", "fix"), SLIPS)
def test_slip(shared_stall: relatum.Model, formula: str, pointed: str, reason: str, fix: str) -> None:
    with pytest.raises(relatum.FormulaError) as caught:
        shared_stall.evaluate(formula)
    message = str(caught.value)
    assert reason in caught.value.reason
    assert fix in caught.value.fix
    assert carets(message).strip() == pointed.strip(), message


@pytest.mark.parametrize(("where", "pointed", "reason", "fix"), CONDITIONS)
def test_wrong_condition(shared_stall: relatum.Model, where: str, pointed: str, reason: str, fix: str) -> None:
    with pytest.raises(relatum.FormulaError) as caught:
        shared_stall.evaluate("revenue", where)
    message = str(caught.value)
    assert message.startswith("where: ")
    assert reason in caught.value.reason
    assert fix in caught.value.fix
    assert carets(message) == pointed, message


@pytest.mark.parametrize("text", ["(" * 10_000 + "1" + ")" * 10_000, "case when true then " * 300 + "1" + " end" * 300])
def test_nesting_is_bounded(shared_stall: relatum.Model, text: str) -> None:
    with pytest.raises(relatum.FormulaError, match="nested more than 100 levels deep") as caught:
        shared_stall.evaluate(text)
    assert len(str(caught.value)) < 500


def test_long_chains_are_bounded(shared_stall: relatum.Model) -> None:
    assert shared_stall.evaluate(" + ".join(["1"] * 150)) == 150
    with pytest.raises(relatum.FormulaError, match="more than 200 operations"):
        shared_stall.evaluate(" + ".join(["1"] * 5_000))


def test_measures_in_a_circle_are_refused(stall: relatum.Model) -> None:
    with pytest.raises(relatum.FormulaError, match="no measure second"):
        stall.measure("first", "second + 1")
    assert "first" not in stall.declaration.measures


def test_a_fault_inside_another_measure_is_shown_where_it_stands(stall: relatum.Model) -> None:
    with pytest.raises(relatum.FormulaError) as caught:
        stall.measure("wrong", "sum(sales.quantiti)")
    assert str(caught.value).startswith("measure wrong: ")


def test_a_measure_that_cannot_be_asked_is_a_problem_in_the_audit(stall: relatum.Model) -> None:
    stall.measure("odd", "1 + sum(target.amount)[where product.kind = 'fern']")
    with pytest.raises(relatum.FormulaError, match=r"^measure odd: where product.kind = 'fern' reaches no aggregate"):
        stall.evaluate("odd / 2")
    found = {finding.subject: finding.text for finding in stall.check().findings if finding.severity == "problem"}
    assert "reaches no aggregate" in found["measure odd"]
