"""A TOML text made to say something else: only what differs is changed, in its place and in the form that it has.

Comments right above an entry belong to it and go with it; a comment that an empty line follows belongs to the file.
"""

from __future__ import annotations

import difflib
import tomllib
from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import tomlkit
from msgspec import Struct, field

from relatum.model.toml_text import Item, Key, KeyPath, Statement, Value, placed, statements

#: Whether a file already says what is wanted, though in other words; called with the key in question.
Same = Callable[[str, Any, Any], bool]
#: Entries under these are named: one that is gone and one that is new may be a single one that was renamed.
_NAMED = frozenset(("table", "measure", "hierarchy", "pivot", "report", "column", "derived", "columns"))
#: So much of an entry must be the same for it to be taken for a renamed or changed one.
_ALIKE = 0.5
_ESCAPES = {"\b": "\\b", "\t": "\\t", "\f": "\\f", "\r": "\\r", "\\": "\\\\"}


class Pair(Struct):
    """A key with its value: a separate statement, or part of an inline table."""

    keys: tuple[Key, ...]
    value: Value
    statement: int


class Node(Struct):
    """A table, by whatever statements it is made: headings, dotted keys, or headings of tables inside it."""

    path: KeyPath
    children: dict[str, Pair | Node | list[Node]] = field(default_factory=dict)
    headings: list[int] = field(default_factory=list)


def rewritten(text: str, wanted: Mapping[str, Any], same: Same, default: Callable[[str, Any], bool]) -> str:
    """A text that says what is wanted.

    Parameters
    ----------
    text : str
        A TOML text.
    wanted : mapping
        What it is to say, as plain values.
    same : callable
        Whether what it says under a key is what is wanted in other words: it is left as it is.
    default : callable
        Whether a key with this value may stay although it is not wanted: it says what holds anyway.
    """
    return _Rewriter(text, same, default).rewritten(wanted)


class _Rewriter:
    def __init__(self, text: str, same: Same, default: Callable[[str, Any], bool]) -> None:
        self.text, self.same, self.default = text, same, default
        self.newline = "\r\n" if "\r\n" in text else "\n"
        self.statements = statements(text)
        self.starts = [each.start for each in self.statements]
        self.root = Node(())
        self.removed: set[int] = set()
        #: Stretches of the text with what takes their place; those without length are insertions.
        self.edits: list[tuple[int, int, str]] = []
        for statement, path in placed(text):
            self._place(statement, path)

    def _place(self, statement: Statement, path: KeyPath) -> None:
        number = bisect_right(self.starts, statement.start) - 1
        names = path if statement.kind == "heading" else path[:-1]
        node = self.root
        for at, name in enumerate(names):
            if isinstance(name, int):
                continue
            entry = names[at + 1] if at + 1 < len(names) else None
            if isinstance(entry, int):
                entries = node.children.setdefault(name, [])
                assert isinstance(entries, list), "the reader accepts the text"
                if entry == len(entries):
                    entries.append(Node((*names[: at + 2],)))
                node = entries[entry]
            else:
                inner = node.children.setdefault(name, Node(names[: at + 1]))
                assert isinstance(inner, Node), "the reader accepts the text"
                node = inner
        if statement.kind == "heading":
            node.headings.append(number)
        else:
            node.children[str(path[-1])] = Pair(statement.keys, statement.value, number)

    def rewritten(self, wanted: Mapping[str, Any]) -> str:
        self._table(self.root, tomllib.loads(self.text), wanted)
        self._drop_removed()
        pieces, at = [], 0
        # Insertions at one place are in the order in which they were made.
        for start, stop, new in sorted(self.edits, key=lambda each: (each[0], each[1] > each[0])):
            pieces += [self.text[at:start], new]
            at = max(at, stop)
        return "".join([*pieces, self.text[at:]])

    # -- tables -------------------------------------------------------------------------------------------------------

    def _table(self, node: Node, said: Mapping[str, Any], wanted: Mapping[str, Any]) -> None:
        renamed = self._renamed(node.path, said, wanted)
        for old, new in renamed.items():
            self._rename(node, old, new)
        for name in list(node.children):
            if name not in wanted and name not in renamed and not self.default(name, said[name]):
                self._remove(node.children[name])
        for name, value in wanted.items():
            here = next((old for old, new in renamed.items() if new == name), name)
            if here not in node.children:
                self._add(node, name, value)
            elif not self.same(name, said[here], value):
                self._change(node, here, node.children[here], said[here], value)

    def _change(self, node: Node, name: str, child: Pair | Node | list[Node], said: Any, wanted: Any) -> None:
        match child:
            case Node() if isinstance(wanted, dict):
                self._table(child, said, wanted)
            case list() if isinstance(wanted, list) and all(isinstance(each, dict) for each in wanted):
                self._entries(child, said, wanted)
            case Pair():
                self._value(child.value, name, said, wanted)
            case _:
                self._remove(child)
                self._add(node, name, wanted)

    def _entries(self, entries: list[Node], said: Sequence[Any], wanted: Sequence[Any]) -> None:
        """The entries of an array of tables: those that stay are where they are."""
        last = entries[-1]
        for old, new in aligned(said, wanted, self.same):
            if old is None:
                assert new is not None, "one side has an entry"
                self._insert(self._after(self._extent(last)), self._heading(last.path[:-1], wanted[new], True), last)
            elif new is None:
                self._remove(entries[old])
            else:
                last = entries[old]
                self._table(entries[old], said[old], wanted[new])

    def _renamed(self, path: KeyPath, said: Mapping[str, Any], wanted: Mapping[str, Any]) -> dict[str, str]:
        """Names that are gone with the new names that their entries have now."""
        if not path or path[-1] not in _NAMED:
            return {}
        gone = [name for name in said if name not in wanted]
        new = [name for name in wanted if name not in said]
        found: dict[str, str] = {}
        for old in gone:
            rest = [name for name in new if name not in found.values()]
            best = max(rest, key=lambda name: alike(said[old], wanted[name]), default=None)
            if best is not None and alike(said[old], wanted[best]) >= _ALIKE:
                found[old] = best
        return found

    def _rename(self, node: Node, old: str, new: str) -> None:
        depth = sum(isinstance(name, str) for name in node.path)
        child = node.children[old]
        for number in self._numbers(child):
            statement = self.statements[number]
            # In a heading every part of the path is written, in a pair those beyond its table's heading.
            above = 0 if statement.kind == "heading" else self._depth_of_section(number)
            key = statement.keys[depth - above] if depth >= above else None
            if key is not None and key.name == old:
                self.edits.append((key.start, key.stop, _key(new)))

    def _depth_of_section(self, number: int) -> int:
        heading = next((at for at in range(number, -1, -1) if self.statements[at].kind == "heading"), None)
        return 0 if heading is None else len(self.statements[heading].keys)

    # -- places -------------------------------------------------------------------------------------------------------

    def _numbers(self, child: Pair | Node | list[Node]) -> list[int]:
        """The statements that something is made by, in order."""
        match child:
            case Pair(statement=statement):
                return [statement]
            case Node(children=children, headings=headings):
                return sorted([*headings, *(number for each in children.values() for number in self._numbers(each))])
            case list():
                return sorted(number for each in child for number in self._numbers(each))

    def _extent(self, child: Pair | Node | list[Node]) -> int:
        """The last statement that something is made by."""
        return self._numbers(child)[-1]

    def _after(self, number: int) -> int:
        return self.statements[number].stop

    def _above(self, number: int) -> int:
        """The first of the comments directly above a statement, or the statement itself."""
        while number and self.statements[number - 1].kind == "comment" and number - 1 not in self.removed:
            number -= 1
        return number

    def _remove(self, child: Pair | Node | list[Node]) -> None:
        for number in self._numbers(child):
            self.removed.update(range(self._above(number), number + 1))

    def _drop_removed(self) -> None:
        """Delete removed entries, with the empty lines that would be left over."""
        blank = [each.kind == "blank" for each in self.statements]
        count = len(self.statements)
        for number in sorted(self.removed):
            if number + 1 in self.removed:
                continue
            first = number
            while first - 1 in self.removed:
                first -= 1
            above = first - 1
            while above in self.removed:
                above -= 1
            after = number + 1
            if above < 0 or blank[above]:
                while after < count and blank[after] and (above < 0 or after < count):
                    self.removed.add(after)
                    after += 1
            if after >= count:
                while above >= 0 and blank[above]:
                    self.removed.add(above)
                    above -= 1
        for number in self.removed:
            statement = self.statements[number]
            self.edits = [each for each in self.edits if not statement.start <= each[0] < each[1] <= statement.stop]
        self.edits += [(self.statements[number].start, self.statements[number].stop, "") for number in self.removed]

    # -- what is new --------------------------------------------------------------------------------------------------

    def _insert(self, at: int, new: str, beside: Node | None = None) -> None:
        """Put lines at a place; a new entry is as far from the one before as others like it do."""
        new = new.replace("\n", self.newline)
        if beside is not None:
            new = self.newline * self._blanks_above(beside) + new
        if at and not self.text[:at].endswith("\n"):
            new = self.newline + new
        self.edits.append((at, at, new))

    def _blanks_above(self, beside: Node) -> int:
        if not beside.headings:
            return 1
        first = self._above(beside.headings[0])
        if first == 0:
            return 1
        count = 0
        while first - 1 - count >= 0 and self.statements[first - 1 - count].kind == "blank":
            count += 1
        return min(count, 1)

    def _add(self, node: Node, name: str, value: Any) -> None:
        """Add a key to a table, in the form that the others of the table have."""
        entries = isinstance(value, list) and bool(value) and all(isinstance(each, dict) for each in value)
        if (isinstance(value, dict) and not self._is_inline(node, name, value)) or (entries and not _in_one_line(name)):
            self._add_table(node, name, value)
            return
        written = f"{_key(name)} = {toml(value)}\n"
        pairs = [
            each.statement
            for each in node.children.values()
            if isinstance(each, Pair) and each.statement not in self.removed
        ]
        if pairs:
            last = max(pairs)
            dotted = self.statements[last].keys[:-1]
            prefix = "".join(f"{self.text[key.start : key.stop]}." for key in dotted)
            self._insert(self._after(last), self._indent(last) + prefix + written)
        elif node.headings:
            self._insert(self._after(node.headings[0]), written)
        elif not node.path:
            self._insert(0, written)
        else:
            first = self._above(self._numbers(node)[0])
            self._insert(self.statements[first].start, f"[{_keys(node.path)}]\n{written}\n")

    def _indent(self, number: int) -> str:
        statement = self.statements[number]
        return self.text[statement.start : statement.keys[0].start]

    def _is_inline(self, node: Node, name: str, value: Mapping[str, Any]) -> bool:
        """Whether a new table is on a line: as tables beside it do, or as a span of dates does."""
        if set(value) >= {"from", "to"} or _in_one_line(name):
            return True
        beside = [each for each in node.children.values() if not isinstance(each, list)]
        inline = [each for each in beside if isinstance(each, Pair) and each.value.kind == "inline"]
        return bool(inline) and not any(isinstance(each, Node) and each.headings for each in beside)

    def _add_table(self, node: Node, name: str, value: Any) -> None:
        dotted = self._dotted(node) if isinstance(value, dict) else None
        if dotted is not None:
            last, prefix = dotted
            lines = (f"{prefix}{_key(name)}.{_key(key)} = {toml(each)}\n" for key, each in value.items())
            self._insert(self._after(last), "".join(lines))
            return
        entries = value if isinstance(value, list) else [value]
        beside = [each for each in node.children.values() if isinstance(each, Node) and each.headings]
        # A table is behind the last one like it, else behind what it is in, else at the end of all.
        own = [number for number in self._numbers(node) if number not in self.removed] if node.path else []
        if not own:
            own = [at for at, each in enumerate(self.statements) if each.kind in ("heading", "pair")][-1:]
        at = self._after(own[-1]) if own else len(self.text)
        for entry in entries:
            text = self._heading((*node.path, name), entry, isinstance(value, list))
            self._insert(at, text, beside[-1] if beside else Node(()))

    def _dotted(self, node: Node) -> tuple[int, str] | None:
        """Where tables of a table are written as dotted keys: their last statement, and the prefix of names."""
        inner = [each for each in node.children.values() if isinstance(each, Node)]
        numbers = [number for each in inner for number in self._numbers(each) if number not in self.removed]
        if (
            not numbers
            or len(inner) < len(node.children)
            or any(self.statements[at].kind == "heading" for at in numbers)
        ):
            return None
        last = self.statements[numbers[-1]]
        above = sum(isinstance(each, str) for each in node.path) - self._depth_of_section(numbers[-1])
        return numbers[-1], self.text[last.start : last.keys[above].start]

    def _heading(self, path: KeyPath, value: Mapping[str, Any], array: bool) -> str:
        """An entry under its own heading, and the tables inside it under theirs."""
        names = [name for name in path if isinstance(name, str)]
        inner: Any = tomlkit.table()
        for key, each in value.items():
            inner.add(tomlkit.key(key) if not isinstance(key, str) else key, toml_item(each, key))
        document: Any = tomlkit.document()
        here: Any = document
        for name in names[:-1]:
            table = tomlkit.table(is_super_table=True)
            here.append(name, table)
            here = table
        if array:
            several = tomlkit.aot()
            several.append(inner)
            here.append(names[-1], several)
        else:
            here.append(names[-1], inner)
        return tomlkit.dumps(document).strip("\n") + "\n"

    # -- values -------------------------------------------------------------------------------------------------------

    def _value(self, value: Value, name: str, said: Any, wanted: Any) -> None:
        if self.same(name, said, wanted):
            return
        # One value may be alone or as a list of one, and goes on to do so.
        if isinstance(wanted, list) and len(wanted) == 1 and not isinstance(said, list):
            wanted = wanted[0]
        elif isinstance(said, list) and not isinstance(wanted, list):
            wanted = [wanted]
        if value.kind == "inline" and isinstance(wanted, dict):
            self._inline(value, name, said, wanted)
        elif value.kind == "array" and isinstance(wanted, list):
            self._array(value, name, said, wanted)
        else:
            self.edits.append((value.start, value.stop, self._scalar(value, said, wanted)))

    def _scalar(self, value: Value, said: Any, wanted: Any) -> str:
        """A value in the form of the one it replaces: on several lines if that was, with the same quotes."""
        raw = self.text[value.start : value.stop]
        if not isinstance(said, str) or not isinstance(wanted, str):
            return toml(wanted)
        for quotes in ('"""', "'''", '"', "'"):
            if not raw.startswith(quotes):
                continue
            long = len(quotes) == 3
            first = self.newline if long and raw[3:].startswith(("\n", "\r\n")) else ""
            body = _escaped(wanted, quotes) if quotes[0] == '"' else wanted
            kept = quotes[0] == '"' or (quotes not in body and not body.endswith("'"))
            if kept and (long or "\n" not in body) and body.replace("\n", "").isprintable():
                return f"{quotes}{first}{body.replace(chr(10), self.newline)}{quotes}"
        return toml(wanted)

    def _inline(self, value: Value, name: str, said: Mapping[str, Any], wanted: Mapping[str, Any]) -> None:
        """An inline table: keys that stay are where they are."""
        if any(len(item.keys) > 1 for item in value.items):
            self.edits.append((value.start, value.stop, toml(wanted)))
            return
        renamed = self._renamed((name,), said, wanted)
        kept: list[tuple[Item | None, str]] = []
        for item in value.items:
            key = item.keys[0].name
            if key in renamed:
                self.edits.append((item.keys[0].start, item.keys[0].stop, _key(renamed[key])))
            new = renamed.get(key, key)
            if new in wanted:
                self._value(item.value, new, said[key], wanted[new])
                kept.append((item, ""))
            elif self.default(key, said[key]):
                kept.append((item, ""))
        there = {renamed.get(key, key) for key in said}
        kept += [(None, f"{_key(key)} = {toml(each)}") for key, each in wanted.items() if key not in there]
        self._items(value, kept)

    def _array(self, value: Value, name: str, said: Sequence[Any], wanted: Sequence[Any]) -> None:
        """An array: elements that stay are where they are, those that changed change there."""
        kept: list[tuple[Item | None, str]] = []
        for old, new in aligned(said, wanted, self.same):
            if new is None:
                continue
            if old is not None:
                self._value(value.items[old].value, name, said[old], wanted[new])
            kept.append((None if old is None else value.items[old], "" if old is not None else toml(wanted[new])))
        self._items(value, kept)

    def _items(self, value: Value, kept: Sequence[tuple[Item | None, str]]) -> None:
        """Take out the items that are not kept and put in the new ones, with their commas."""
        if all(item is not None for item, _ in kept) and len(kept) == len(value.items):
            return
        if not value.items or not kept:
            closing = self.text[value.stop - 1]
            inner = ", ".join(new for _, new in kept)
            padded = f" {inner} " if closing == "}" and inner else inner
            self.edits = [each for each in self.edits if not value.start <= each[0] < value.stop]
            self.edits.append((value.start + 1, value.stop - 1, padded))
            return
        staying = {id(item) for item, _ in kept if item is not None}
        trailing = value.items[-1].comma is not None
        lead = self._lead(value)
        first, last = kept[0][0], kept[-1][0]
        for item in value.items:
            if id(item) not in staying:
                self.edits = [each for each in self.edits if not item.start <= each[0] < item.stop]
                self.edits.append((item.start, item.stop, ""))
            elif item is last and item.comma is not None and not trailing:
                self.edits.append((item.comma, item.comma + 1, ""))
            elif item is not last and item.comma is None:
                self.edits.append((item.value.stop, item.value.stop, ","))
        if first is not None and first is not value.items[0] and self.newline not in lead:
            # On one line, the first has the room before it that the first had.
            self.edits.append((first.start, _begin(first), self._before_first(value)))
        place = value.start + 1
        for at, (kept_item, new) in enumerate(kept):
            if kept_item is not None:
                place = kept_item.stop
            else:
                comma = "," if at < len(kept) - 1 or trailing else ""
                self.edits.append((place, place, (self._before_first(value) if at == 0 else lead) + new + comma))

    def _before_first(self, value: Value) -> str:
        return self.text[value.items[0].start : _begin(value.items[0])]

    def _lead(self, value: Value) -> str:
        """What is before each item but the first: a blank, or a new line and the indent."""
        first = self._before_first(value)
        if self.newline in first:
            return self.newline + first.rpartition("\n")[2]
        return " "


def _begin(item: Item) -> int:
    """Where an item itself begins, after the trivia before it."""
    return item.keys[0].start if item.keys else item.value.start


# -- which is which ---------------------------------------------------------------------------------------------------


def aligned(said: Sequence[Any], wanted: Sequence[Any], same: Same) -> list[tuple[int | None, int | None]]:
    """Which entry of a list is which of another, in the other's order: those that are gone have no place there.

    Equal entries are paired first; of those between them the most similar are paired.
    """
    keys: list[Any] = []

    def number(value: Any) -> int:
        for at, each in enumerate(keys):
            if each == value or same("", each, value):
                return at
        keys.append(value)
        return len(keys) - 1

    matcher = difflib.SequenceMatcher(None, [number(each) for each in said], [number(each) for each in wanted], False)
    found: list[tuple[int | None, int | None]] = []
    for what, old, old_stop, new, new_stop in matcher.get_opcodes():
        match what:
            case "equal":
                found += list(zip(range(old, old_stop), range(new, new_stop), strict=True))
            case "replace" | "delete" | "insert":
                found += _most_alike(said, wanted, range(old, old_stop), range(new, new_stop))
    return found


def _most_alike(
    said: Sequence[Any], wanted: Sequence[Any], old: range, new: range
) -> list[tuple[int | None, int | None]]:
    """Entries at the same place, or similar enough, paired in order."""
    if len(old) == len(new):
        return list(zip(old, new, strict=True))
    found: list[tuple[int | None, int | None]] = []
    at = old.start
    for place in new:
        partner = next((other for other in range(at, old.stop) if alike(said[other], wanted[place]) >= _ALIKE), None)
        if partner is not None:
            found += [(other, None) for other in range(at, partner)]
            at = partner + 1
        found.append((partner, place))
    return [*found, *((other, None) for other in range(at, old.stop))]


def alike(one: Any, other: Any) -> float:
    """How much of two entries is the same, from 0 to 1."""
    mine, theirs = (dict(_leaves(each, ())) for each in (one, other))
    if not mine or not theirs:
        return float(mine == theirs)
    shared = sum(mine[path] == theirs[path] for path in mine.keys() & theirs.keys())
    return float(shared / max(len(mine), len(theirs)))


def _leaves(value: Any, path: tuple[Any, ...]) -> list[tuple[tuple[Any, ...], Any]]:
    if isinstance(value, dict):
        return [leaf for key, each in value.items() for leaf in _leaves(each, (*path, key))]
    if isinstance(value, list) and any(isinstance(each, dict) for each in value):
        return [leaf for at, each in enumerate(value) for leaf in _leaves(each, (*path, at))]
    return [(path, value)]


def _escaped(text: str, quotes: str) -> str:
    """A text as it is between these double quotes."""
    body = "".join(_ESCAPES.get(sign, sign) for sign in text)
    if quotes == '"':
        return body.replace('"', '\\"').replace("\n", "\\n")
    body = body.replace('"""', '""\\"')
    return body[:-1] + '\\"' if body.endswith('"') else body


def _lines(text: str) -> bool:
    """Whether a text is best written on several lines."""
    return "\n" in text.strip("\n") and text.replace("\n", "").isprintable()


# -- TOML ------------------------------------------------------------------------------------------------------------


def _in_one_line(name: str) -> bool:
    """Whether an entry of this name is short enough to be on a line."""
    return name in ("at", "colours", "where", "style")


def _key(name: str) -> str:
    return tomlkit.key(name).as_string()


def _keys(path: KeyPath) -> str:
    return ".".join(_key(name) for name in path if isinstance(name, str))


def toml(value: Any) -> str:
    """A value as TOML, on one line; a text of several lines is on several."""
    if isinstance(value, str) and _lines(value):
        return tomlkit.string(value, multiline=True).as_string()
    if isinstance(value, dict):
        inner = ", ".join(f"{_key(name)} = {toml(each)}" for name, each in value.items())
        return f"{{ {inner} }}" if inner else "{}"
    if isinstance(value, list):
        return f"[{', '.join(map(toml, value))}]"
    text: str = tomlkit.item(value).as_string()
    return text


def new_text(wanted: Mapping[str, Any]) -> str:
    """A text for a file that does not exist yet."""
    document = tomlkit.document()
    for name, value in wanted.items():
        document[name] = toml_item(value, name)
    return tomlkit.dumps(document)


def toml_item(value: Any, name: str = "") -> Any:
    """A value as the file shows it: a calendar on one line, each entry of a list under its own heading."""
    if isinstance(value, dict):
        if set(value) >= {"from", "to"} or _in_one_line(name):
            inline = tomlkit.inline_table()
            inline.update(value)
            return inline
        table = tomlkit.table(is_super_table=bool(value) and all(isinstance(each, dict) for each in value.values()))
        for key, each in value.items():
            table[key] = toml_item(each, key)
        return table
    if isinstance(value, list) and value and isinstance(value[0], dict):
        if _in_one_line(name):
            array = tomlkit.array()
            array.extend([toml_item(each, "at") for each in value])
            return array
        several = tomlkit.aot()
        for each in value:
            several.append(toml_item(each))
        return several
    if isinstance(value, str) and _lines(value):
        return tomlkit.string(value, multiline=True)
    return value
