"""A model drafted from the bare files of the nursery, reviewed, checked and queried.

Run ``relatum demo hollowmere`` first, then ``python examples/model_from_raw_data.py``.
"""

from __future__ import annotations

import relatum

FILES = [f"hollowmere/{name}" for name in ("sales.parquet", "product.csv", "category.csv", "price.csv", "customer.csv")]


def main() -> None:
    """Draft, look, check, ask."""
    draft = relatum.draft(*FILES, name="drafted")
    for each in draft.proposals:
        if each.kind == "relationship":
            print(f"{each.word:7} {each.statement}  ({each.evidence})")
    model = draft.model()
    # The draft guessed what revenue is and left it to us: it is what it looked like.
    model.measure("revenue", "sum(sales.quantity * price.unit_price)", format="#,##0")
    for finding in model.check("revenue").problems:
        print(f"{finding.subject}: {finding.text} {finding.effect}")
    print(model.pivot(rows="category.department", columns="calendar.year", values="revenue"))
    print(model.diagram().mermaid())


if __name__ == "__main__":
    main()
