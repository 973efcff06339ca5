"""What the names of columns say: the trade's habits of naming keys, prices, quantities and dates."""

from __future__ import annotations

import re

_BREAK = re.compile(r"[^a-z0-9]+")
KEY_ENDINGS = frozenset(("id", "key", "no", "nr", "num", "number", "code", "sku", "ref", "uuid", "pk", "fk", "isbn"))
#: Names so common that two tables may have one without meaning the same thing.
GENERIC = frozenset(
    "id key no nr number code name title type status state kind date day month year note notes comment description "
    "value amount quantity qty price created updated active flag position sort rank level group label".split()
)
_RATES = frozenset(
    "price rate ratio percent percentage pct average avg mean score rating temperature age probability factor index "
    "unit per each height width length speed".split()
)
#: A share of something, or an amount of money: the numbers must tell.
_EITHER = frozenset("discount margin tax vat fee share commission".split())
_STOCKS = frozenset("stock balance inventory hand onhand headcount level count_on_hand".split())
_COUNTED = frozenset(
    "quantity qty amount total revenue sales turnover units pieces target budget quota volume hours minutes subtotal "
    "gross net count value profit payment paid".split()
)
_NOT_ADDED = frozenset(
    "year month day week quarter hour zip postcode postal phone latitude longitude lat lon version line position "
    "priority sort order rank shelf size".split()
)
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


def core(name: str) -> tuple[str, ...]:
    """The words of a name without the ending that says it is a key."""
    parts = words(name)
    while len(parts) > 1 and parts[-1] in KEY_ENDINGS:
        parts = parts[:-1]
    if len(parts) == 1:
        for ending in ("key", "id", "code", "no"):
            if parts[0].endswith(ending) and len(parts[0]) > len(ending) + 2:
                parts = (parts[0][: -len(ending)],)
                break
    return tuple(map(singular, parts))


def looks_like_key(name: str) -> bool:
    """Whether a name says that its values name things."""
    parts = words(name)
    if not parts:
        return False
    run_together = any(parts[-1].endswith(end) and len(parts[-1]) > len(end) for end in ("key", "id", "code"))
    return parts[-1] in KEY_ENDINGS or run_together


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
    return bool(parts) and (parts[-1] in _NOT_ADDED or looks_like_key(name)) and not is_counted(name)


def holds_from(name: str) -> bool:
    """Whether a name surely says so: ``valid_from``, not ``started_on``, which may be when a job began."""
    return bool(set(words(name)) & {"valid", "effective", "since", "from"})


def starts_a_validity(name: str) -> bool:
    """Whether a name says that something holds from that date on."""
    return any(part in _FROM for part in words(name))
