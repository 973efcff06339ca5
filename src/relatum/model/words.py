"""What the names of columns say: the trade's habits of naming keys, prices, quantities and dates."""

from __future__ import annotations

import re

from relatum.model.names import KEYWORDS

_BREAK = re.compile(r"[^a-z0-9]+")
KEY_ENDINGS = frozenset("id key no nr num number code sku upc ean gtin barcode ref uuid pk fk isbn".split())
#: Names so common that two tables may have one without meaning the same thing.
GENERIC = frozenset(
    "id key no nr number code name title type status state kind date day month year note notes comment description "
    "value amount quantity qty price created updated active flag position sort rank level group label".split()
)
_RATES = frozenset(
    "price rate ratio percent percentage pct average avg mean score rating age probability factor index unit per each "
    "width length min max minimum maximum limit threshold".split()
)
#: What is measured at a moment or a place: an average says something, a sum does not.
_MEASURED = frozenset(
    "temp temperature dewp dewpoint humid humidity pressure visib visibility speed wind gust tide dir direction "
    "bearing heading height altitude alt elevation depth delay lag latency voltage ph".split()
)
#: Words that end in "id" and name nothing by it.
_ID_WORDS = frozenset(
    "paid prepaid unpaid overpaid humid solid bid grid valid invalid fluid liquid rapid void avoid aid raid mid acid "
    "hybrid kid lid rid said squid vivid candid amid android braid laid maid plaid rigid squalid timid turbid arid "
    "lucid morbid placid splendid stupid torrid afraid centroid asteroid steroid thyroid covid celluloid".split()
)
#: Sums of money: each row may have one of its own, and none names the row.
_SUMS = frozenset("salary wage pay income expense cost fare bonus budget debt loan rent balance worth".split())
#: In which role a thing is in a row: a lookup may be used once for each.
_ROLES = frozenset(
    "origin dest destination from to home away source target start end pickup dropoff sender receiver departure "
    "arrival seller buyer payer payee shipper consignee donor first second old new previous next".split()
)
#: When a person or thing came to be, rather than when something was done with it.
_BEGINNINGS = frozenset(
    "birth born built founded established joined opened debut since bought hire hired registered created manufactured "
    "construction constructed launched modified updated".split()
)
#: A share of something, or an amount of money: the numbers must tell.
_EITHER = frozenset("discount margin tax vat fee share commission".split())
_STOCKS = frozenset("stock balance inventory hand onhand headcount level count_on_hand".split())
_COUNTED = frozenset(
    "quantity qty amount total revenue sales turnover units pieces target budget quota volume hours minutes subtotal "
    "gross net count value profit payment paid".split()
)
_NOT_ADDED = frozenset(
    "year month day week quarter hour minute second clock zip postcode postal phone latitude longitude lat lon tz "
    "timezone zone dst version line position priority sort order rank shelf size row seat stint gate lane room floor "
    "track bib shirt till desk door stop step round leg innings period grade level class sequence seq idx type kind "
    "status mode flag method category easting northing coordinate coord traveled travelled cumulative odometer".split()
)
#: What is known of a person or place and never names a row of another table, though two tables may both have it.
_DETAILS = frozenset(
    "phone telephone tel mobile fax email mail address street postcode postalcode postal zip url website homepage "
    "firstname lastname forename surname birthday birthdate password comment note remark".split()
)
#: Who does something for somebody, and what tables of such people are called.
_STAFF = frozenset(
    "rep representative agent manager clerk seller salesperson salesman handler assignee adviser advisor supervisor "
    "cashier driver operator technician consultant attendant officer boss".split()
)
_PEOPLE = frozenset("employee staff worker person people personnel user colleague crew clerk agent seller".split())
#: What a row says of another row of its own table.
_OWN_KIND = frozenset(
    "parent manager boss supervisor superior leader mentor referrer predecessor successor previous next "
    "replaces reports".split()
)
#: What happens to the thing a document is about: the total of an invoice is what was invoiced.
_DONE = {
    "invoice": "invoiced", "bill": "billed", "order": "ordered", "payment": "paid",
    "purchase": "purchased", "refund": "refunded", "shipment": "shipped", "booking": "booked", "donation": "donated",
    "deposit": "deposited", "quote": "quoted", "claim": "claimed", "receipt": "received", "expense": "spent",
}  # fmt: skip
#: Names of amounts that say nothing without the table that they are of.
_BARE_AMOUNTS = frozenset("total amount value sum subtotal price".split())
#: Words of a column that say of a thing only that they name it.
_NAMING_WORDS = frozenset("name title label short long full desc description".split())
#: What says of a table only what sort of table it is.
_SORTS = frozenset("description detail info information data master dim dimension fact attribute metadata".split())
_FROM = frozenset("from start starts since effective begin begins valid".split())


def words(name: str) -> tuple[str, ...]:
    """The words that a name is made of, in lower case: ``ShipDate`` is ship and date."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)
    return tuple(word for word in _BREAK.split(spaced.lower()) if word)


def singular(word: str) -> str:
    """A noun without its plural ending."""
    if word.endswith("ies") and len(word) > 4:
        return word[:-3] + "y"
    return word[:-1] if word.endswith("s") and not word.endswith("ss") and len(word) > 3 else word


def subject(table: str) -> tuple[str, ...]:
    """What the rows of a table are, by its name: ``campaign_descriptions`` are campaigns."""
    parts = tuple(map(singular, words(table)))
    return tuple(part for part in parts if part not in _SORTS) or parts


def core(name: str) -> tuple[str, ...]:
    """The words of a name without the ending that says it is a key."""
    parts = words(name)
    while len(parts) > 1 and parts[-1] in KEY_ENDINGS:
        parts = parts[:-1]
    if len(parts) == 1:
        for ending in ("key", "id", "code", "no"):
            if parts[0].endswith(ending) and len(parts[0]) > len(ending) + 2 and parts[0] not in _ID_WORDS:
                parts = (parts[0][: -len(ending)],)
                break
    return tuple(map(singular, parts))


def looks_like_key(name: str) -> bool:
    """Whether a name says that its values name things."""
    parts = words(name)
    if not parts:
        return False
    last = parts[-1]
    run_together = any(last.endswith(end) and len(last) > len(end) for end in ("key", "id", "code"))
    return last in KEY_ENDINGS or (run_together and last not in _ID_WORDS)


def is_generic(name: str) -> bool:
    """Whether a name is too common to mean the same thing in two tables."""
    return "".join(words(name)) in GENERIC


def is_rate(name: str) -> bool:
    """Whether a name says that its numbers make no sense added up: prices, rates, shares."""
    parts = words(name)
    return any(part in _RATES for part in parts) and not (set(parts) & _COUNTED - {"net", "gross", "value"})


def is_share_or_amount(name: str) -> bool:
    """Whether a name can mean a share, which does not add up, as well as an amount, which does."""
    parts = words(name)
    return any(part in _EITHER for part in parts) and not is_rate(name) and not is_counted(name)


def is_stock(name: str) -> bool:
    """Whether a name says that its numbers are counts at a moment, which add up over things but not over time."""
    return any(part in _STOCKS for part in words(name))


def is_counted(name: str) -> bool:
    """Whether a name says that its numbers add up."""
    return any(part in _COUNTED for part in words(name))


def is_ordinal(name: str) -> bool:
    """Whether a name says that its numbers name or order things: years, postcodes, line numbers."""
    parts = words(name)
    if not parts or is_counted(name):
        return False
    return (
        parts[-1] in _NOT_ADDED
        or parts[0] in ("is", "has", "was", "can")
        or looks_like_key(name)
        or (is_of_own_kind(name))
    )


def holds_from(name: str) -> bool:
    """Whether a name surely says so: ``valid_from``, not ``started_on``, which may be when a job began."""
    return bool(set(words(name)) & {"valid", "effective", "since", "from"})


def starts_a_validity(name: str) -> bool:
    """Whether a name says that something holds from that date on."""
    return any(part in _FROM for part in words(name))


def says_a_date(name: str) -> bool:
    """Whether a name says that its values are days: ``date``, ``start_date``, ``startdate``, ``day``."""
    parts = words(name)
    return bool(parts) and (bool({"date", "day", "dt"} & {parts[0], parts[-1]}) or parts[-1].endswith("date"))


def is_detail(name: str) -> bool:
    """Whether a name says a detail of a person or place, such as a phone number: it points nowhere."""
    parts = words(name)
    return any(part in _DETAILS for part in parts) or "".join(parts[-2:]) in _DETAILS


def is_staff_of(name: str, table: str) -> bool:
    """Whether a name says who of the people in a table does something: the ``support_rep`` among employees."""
    parts = core(name)
    return bool(parts) and parts[-1] in _STAFF and bool(set(subject(table)) & _PEOPLE)


def is_of_own_kind(name: str) -> bool:
    """Whether a name says which other row of the same table a row belongs to: ``parent_id``, ``reports_to``."""
    return any(part in _OWN_KIND for part in words(name))


def own_kind_name(name: str) -> str:
    """What the row is that a column of the same table points to, where the column's name does not say it as a noun."""
    return {"reports": "manager", "replaces": "predecessor"}.get(words(name)[0], "") if words(name) else ""


def row_count_name(table: str) -> str:
    """What the count of a table's rows is called: ``invoices`` of ``invoice``, ``number_of_trips`` of ``trips``."""
    many = plural(table)
    return many if many != table else f"number_of_{table}"


def sum_name(table: str, column: str) -> str:
    """What the sum of a column is called, where the column's own name says nothing by itself."""
    parts = words(column)
    about = subject(table)
    if not about or not set(parts) <= _BARE_AMOUNTS | set(about) or not set(parts) & _BARE_AMOUNTS:
        return "_".join(parts) or column
    return _DONE.get(about[-1], "_".join((*words(table), *(part for part in parts if part not in about))))


def thing(table: str, column: str) -> str:
    """What the members of a column are, in a word or two: ``genre`` of ``genre.name``, ``route`` of a short name."""
    parts = [part for part in words(column) if part not in _NAMING_WORDS]
    return "_".join(parts or subject(table)) or column


def plural(word: str) -> str:
    """A noun in the plural."""
    if word.endswith("s"):
        return word
    if word.endswith("y") and word[-2:-1] not in "aeiou":
        return word[:-1] + "ies"
    return word + ("es" if word.endswith(("x", "ch", "sh")) else "s")


def is_measured(name: str) -> bool:
    """Whether a name says that its numbers are measured at a moment or place, so that they are averaged."""
    return any(part in _MEASURED for part in words(name)) and not is_counted(name)


def is_amount(name: str) -> bool:
    """Whether a name says a sum of money or a number of things, which names nothing."""
    return is_counted(name) or any(singular(part) in _SUMS or part in _EITHER for part in words(name))


def role_in(name: str) -> str:
    """The word of a name that says in which role a thing is; empty where there is none."""
    return next((part for part in words(name) if part in _ROLES), "")


def is_beginning(name: str) -> bool:
    """Whether a date's name says when a thing came to be, rather than when something happened with it."""
    parts = [part for word in words(name) for part in (word, word.removesuffix("date"))]
    return any(part in _BEGINNINGS for part in parts)


def plain_name(heading: str, position: int, table: str) -> str:
    """A heading as a name that formulas spell without quotes: ``playerID`` is ``player_id``, ``2B`` is ``b2``.

    Examples
    --------
    >>> [plain_name(each, 1, "t") for each in ("Order No", "2nd half", "Temp °C", "%", "End")]
    ['order_no', 'half_2nd', 'temp_c', 'column_1', 't_end']
    """
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])|(?<=[0-9])(?=[A-Z][a-z])", "_", heading)
    parts = [part for part in re.split(r"[\W_]+", spaced.lower()) if part]
    if parts and parts[0][0].isdigit():
        turned = re.sub(r"\A(\d+)(.*)\Z", r"\2\1", parts[0])
        parts = [*parts[1:], parts[0]] if len(parts) > 1 else [turned if not turned.isdigit() else f"column_{turned}"]
    name = "_".join(parts)
    if not name or name[0].isdigit():
        return f"column_{position}"
    return f"{table}_{name}" if name in KEYWORDS else name
