"""A person's own model file: an edit changes what it concerns, where it is and in its form, and only its arguments."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum

SALES = "item,sold,units,price\na,2024-01-05,2,3\nb,2024-02-06,1,4\nzz,2024-02-07,5,6\n"
ITEM = "item,kind,weight\na,x,1\nb,y,2\n"


class File:
    """A random file: pieces with an empty line between them, each with what it belongs to."""

    def __init__(self, rnd: random.Random, end: str = "\n") -> None:
        self.rnd, self.end, self.count = rnd, end, 0
        self.pieces: list[tuple[str, str]] = []
        self.put("", f"relatum = 1{self.aside()}", f"name = 'shop'{self.aside()}", *self.maybe('locale = "en_GB"'))
        self.section()
        self.table("sales", "sales.csv", ["item", "sold", "units", "price"])
        self.table("item", "item.csv", ["kind", "weight"], 'key = "item"')
        self.section()
        self.put("relationship 0", "[[relationship]]" + self.aside(), 'link = "sales.item -> item.item"' + self.aside())
        self.section()
        self.measures()
        self.section()
        rows = self.array(['"item.kind"', '"item.weight"'])
        self.put("pivot by_kind", "[pivot.by_kind]", f"rows = {rows}{self.aside()}", *self.maybe("about = 'By kind'"),
                 "values = " + self.array(['"m0"', '"m1"', '"s: m1 / m0"']))  # fmt: skip
        self.put("pivot by_item", "[pivot.by_item]", 'rows = "sales.item"', "values = ['m0']" + self.aside())
        self.put("report year", "[report.year]", 'title = "The year"' + self.aside(), "", *self.comments(),
                 "[[report.year.part]]", "figures = " + self.array(['"m0"', '"m1"']), "", "[[report.year.part]]",
                 "text = '''", "A *good* one, and \"quoted\".", "'''", "", *self.comments(), "[[report.year.part]]" + self.aside(),
                 "pivot = 'by_kind'")  # fmt: skip
        self.put("control 0", "[[control]]", 'measure = "m0"', "equals = 8" + self.aside())
        if rnd.random() < 0.5:
            self.section()

    def comment(self) -> str:
        self.count += 1
        return f"# remark {self.count}{self.rnd.choice(('', ': 0007 is a code', ' [x] = 1'))}"

    def comments(self) -> list[str]:
        return [self.comment() for _ in range(self.rnd.choice((0, 0, 1, 2)))]

    def aside(self) -> str:
        return f"{self.rnd.choice((' ', '   '))}{self.comment()}" if self.rnd.random() < 0.3 else ""

    def maybe(self, line: str) -> list[str]:
        return [line + self.aside()] if self.rnd.random() < 0.4 else []

    def array(self, items: list[str]) -> str:
        match self.rnd.choice(("one", "several", "remarked")):
            case "one":
                return f"[{', '.join(items)}]"
            case "several":
                return "[\n" + "".join(f"  {item},\n" for item in items) + "]"
            case _:
                ends = [",", *["," for _ in items[1:-1]], self.rnd.choice(("", ","))]
                return (
                    "["
                    + self.aside()
                    + "\n"
                    + "".join(f"    {i}{e}{self.aside()}\n" for i, e in zip(items, ends, strict=False))
                    + "]"
                )

    def put(self, name: str, *lines: str) -> None:
        own = self.comments() if name else []
        self.pieces.append((name, "\n".join([*own, *lines]) + "\n"))

    def section(self) -> None:
        self.pieces.append(("", "\n".join([self.comment(), *self.comments()]) + "\n"))

    def table(self, name: str, source: str, columns: list[str], *more: str) -> None:
        self.put(f"table {name}", f"[table.{name}]" + self.aside(), *self.comments(), f'source = "{source}"', *more,
                 *self.maybe('about = "Rows of it"'))  # fmt: skip
        for column in columns:
            match self.rnd.choice(("none", "heading", "inline")):
                case "heading":
                    self.put(
                        f"table {name}", f"[table.{name}.column.{column}]", f"label = '{column.title()}'{self.aside()}"
                    )
                case "inline" if not any(f"table.{name}.column" in text for _, text in self.pieces):
                    self.put(
                        f"table {name}",
                        f"[table.{name}.column]",
                        f'{column} = {{ label = "{column.title()}" }}{self.aside()}',
                    )
                case _:
                    pass

    def measures(self) -> None:
        formulas = ["sum(sales.units)", "sum(sales.units * sales.price)", "m1 / m0", "m0 + 1", "m2 * 2 + m0"]
        form = self.rnd.choice(("heading", "inline", "dotted"))
        lines: list[str] = []
        for at, formula in enumerate(formulas):
            written = self.rnd.choice((f'"{formula}"', f"'{formula}'", f'"""\n{formula}"""', f"'''{formula}'''"))
            match form:
                case "heading":
                    self.put(f"measure m{at}", f"[measure.m{at}]" + self.aside(), f"formula = {written}{self.aside()}",
                             *self.maybe(f"about = 'Number {at}'"))  # fmt: skip
                case "inline":
                    lines += [
                        *self.comments(),
                        f"m{at} = {{ formula = '{formula}', about = \"Number {at}\" }}{self.aside()}",
                    ]
                case _:
                    lines += [*self.comments(), f"m{at}.formula = {written}{self.aside()}"]
        if lines:
            self.put("measures", "[measure]", *lines)

    def text(self, change: Callable[[str, str], str | None] = lambda name, text: text) -> str:
        kept = [text for name, text in ((n, change(n, t)) for n, t in self.pieces) if text is not None]
        return "\n".join(kept).replace("\n", self.end)


def written(folder: Path, file: File) -> Path:
    folder.mkdir(exist_ok=True)
    (folder / "sales.csv").write_text(SALES)
    (folder / "item.csv").write_text(ITEM)
    path = folder / "shop.toml"
    path.write_bytes(file.text().encode())
    return path


def renamed(old: str, new: str, *, quoted: bool = False) -> Callable[[str, str], str]:
    """A name put in the place of another, in everything but comments."""

    def change(_: str, text: str) -> str:
        lines = []
        for line in text.split("\n"):
            said, mark, remark = line.partition("# remark") if "# remark" in line else (line, "", "")
            lines.append(re.sub(rf"(?<!\w){old}\b", new, said) + mark + remark)
        return "\n".join(lines)

    return change


def without(*names: str) -> Callable[[str, str], str | None]:
    return lambda name, text: None if name in names else text


def in_piece(piece: str, pattern: str, new: str) -> Callable[[str, str], str]:
    return lambda name, text: re.sub(pattern, new, text, count=1) if name in (piece, "measures") else text


def drop_line(text: str, name: str) -> str:
    """A piece without the lines of one key and the comments right above it."""
    lines = text.split("\n")
    at = next(number for number, line in enumerate(lines) if re.match(rf"{name}[ .]", line))
    stop = at + 1 + ('"""' in lines[at] and lines[at].count('"""') == 1)
    while lines[at - 1].startswith("#"):
        at -= 1
    return "\n".join(lines[:at] + lines[stop:])


def less(name: str, text: str) -> str:
    """A pivot without one of its values, whatever form its list has."""
    if name != "pivot by_kind":
        return text
    return re.sub(r'\n *"m1",[^\n]*|"m1", ', "", text, count=1)


def more(name: str, text: str) -> str:
    """A pivot with one more value: on the line, or on a separate line with the indent and commas of the rest."""
    if name != "pivot by_kind":
        return text
    line = re.search(r'\n( *)"s: m1 / m0"(,?)( *(?:#[^\n]*)?)\n', text)
    if line is None:
        return text.replace('"s: m1 / m0"]', '"s: m1 / m0", "m2"]')
    indent, comma, remark = line.groups()
    return text.replace(line[0], f'\n{indent}"s: m1 / m0",{remark}\n{indent}"m2"{comma}\n')


def asked(values: str) -> Callable[[relatum.Model], None]:
    return lambda m: m.keep_pivot("by_kind", m.pivot(saved="by_kind").again(values=values),
                                  about=m.declaration.pivots["by_kind"].about, replace=True)  # fmt: skip


def with_measure(file: File) -> str:
    new = '[measure.m9]\nformula = "m0 * 9"\n'
    last = max(at for at, (name, _) in enumerate(file.pieces) if name.startswith("measure"))
    name, text = file.pieces[last]
    pieces = [list(each) for each in file.pieces]
    if name == "measures":
        dotted = "m0.formula" in text
        pieces[last][1] = text + ('m9.formula = "m0 * 9"\n' if dotted else 'm9 = { formula = "m0 * 9" }\n')
    else:
        pieces.insert(last + 1, ["new", new])
    return "\n".join(text for _, text in pieces).replace("\n", file.end)


EDITS: dict[str, tuple[Callable[[relatum.Model], None], Callable[[File], str]]] = {
    "nothing": (lambda m: None, lambda f: f.text()),
    "rename a measure": (lambda m: m.rename("m0", "pieces"), lambda f: f.text(renamed("m0", "pieces"))),
    "rename a table": (lambda m: m.rename("sales", "sold_lines"),
                       lambda f: f.text(lambda n, t: re.sub(r"\bsales(?=[.\]]|\.column)(?!\.csv)", "sold_lines", t))),
    "remove a measure": (lambda m: m.remove("m4"),
                         lambda f: f.text(lambda n, t: None if n == "measure m4" else drop_line(t, "m4") if n == "measures" else t)),
    "remove a pivot": (lambda m: m.remove("by_item"), lambda f: f.text(without("pivot by_item"))),
    "change a formula": (lambda m: m.measure("m3", "m0 + 100", about=m.declaration.measures["m3"].about, replace=True),
                         lambda f: f.text(in_piece("measure m3", r"m0 \+ 1\b", "m0 + 100"))),
    "change a relationship": (lambda m: (m.remove("sales.item -> item.item", force=True) and None) or m.relate("sales.item -> item.item", direction="both"),
                              lambda f: f.text(lambda n, t: t + 'direction = "both"\n' if n == "relationship 0" else t)),
    "remove a value": (asked("m0, s: m1 / m0"), lambda f: f.text(less)),
    "add a value": (asked("m0, m1, s: m1 / m0, m2"), lambda f: f.text(more)),
    "add a measure": (lambda m: m.measure("m9", "m0 * 9"), with_measure),
}  # fmt: skip


@pytest.mark.outside
@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10**9), st.sampled_from(sorted(EDITS)), st.sampled_from(["\n", "\r\n"]))
def test_what_an_edit_does_not_concern_stays_to_the_byte(
    tmp_path_factory: pytest.TempPathFactory, seed: int, edit: str, end: str
) -> None:
    file = File(random.Random(seed), end)
    path = written(tmp_path_factory.mktemp("file"), file)
    change, expected = EDITS[edit]
    model = relatum.open(path)
    change(model)
    model.save(path)
    assert path.read_bytes().decode() == expected(file)
    assert relatum.open(path).declaration == model.declaration
