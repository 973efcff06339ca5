"""Reading the model file: from TOML to declaration, every fault with its line."""

from __future__ import annotations

import functools
import re
import tomllib
from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from msgspec import structs

from relatum.errors import ModelError
from relatum.model.declaration import (
    BESIDE_FORMULA,
    WEEKDAYS,
    CalendarRange,
    ColumnSettings,
    Control,
    Declaration,
    Derived,
    EngineChoice,
    EngineKind,
    Hierarchy,
    Measure,
    Relationship,
    SavedPivot,
    Table,
    frozen,
    refuse_choice,
)
from relatum.model.entries import (
    VERSION,
    CalendarEntry,
    ColumnEntry,
    ControlEntry,
    DerivedEntry,
    HierarchyEntry,
    MeasureEntry,
    ModelEntry,
    PivotEntry,
    RelationshipEntry,
    TableEntry,
    filled,
)
from relatum.model.key_lines import KeyPath, key_lines, line_of
from relatum.model.links import parse_link
from relatum.model.looks import (
    FORMAT_WORDS,
    Report,
    StyleRule,
    Theme,
    check_colour,
    check_report,
    check_rule,
    check_theme,
    format_of_words,
)
from relatum.runtime.limits import read_limits, refuse_above
from relatum.runtime.paths import kind_of, leads_outside
from relatum.wording import counted, first_line, suggestion

Entry = TypeVar("Entry", bound=msgspec.Struct)
#: A key of very many dotted parts takes a TOML reader hours, and no person writes one.
_DOTS = 100
_NAME = r"""(?:[\w-]+|"[^"\n]*"|'[^'\n]*')"""
_DOTTED = re.compile(rf"(?<![\w-])(?:{_NAME}[ \t]*\.[ \t]*){{{_DOTS}}}")


def read_model(path: Path) -> Declaration:
    """Read a model file.

    Parameters
    ----------
    path : Path
        A TOML file.

    Raises
    ------
    ModelError
        The file is missing or no TOML; a key is unknown; a value has the wrong type; names collide or are not there.
        The error has the file, the line, the value received and what is allowed.
    """
    return _Reader(path, read_text(path)).read()


def read_text(path: Path) -> str:
    """The text of a model file; a ModelError where there is none."""
    kind = kind_of(path)
    if not kind:
        raise ModelError("There is no such file.", path=path, fix="A model is a TOML file; relatum demo writes one.")
    if kind == "folder":
        raise ModelError("This is a folder, not a model file.", path=path, fix="Name the TOML file in it.")
    if kind != "file":
        raise ModelError(f"This is a {kind}, not a model file.", path=path, fix="Name a TOML file.")
    size = path.stat().st_size
    refuse_above("model", size, f"{path} has {counted(size, 'byte')}")
    try:
        text = path.read_bytes().decode("utf-8")  # with its ends of lines as they are
    except UnicodeDecodeError:
        raise ModelError("This is not a UTF-8 text file.", path=path, fix="A model is a TOML file.") from None
    except OSError as error:
        raise ModelError(f"The file cannot be read: {error.strerror}.", path=path) from None
    if not text.strip():
        raise ModelError("The file is empty.", path=path, fix=f"A model begins with relatum = {VERSION}.")
    return text


class _Reader:
    def __init__(self, path: Path, text: str) -> None:
        self.path = path
        dotted = _DOTTED.search(text)
        if dotted is not None:
            line = text.count("\n", 0, dotted.start()) + 1
            raise ModelError(f"A name has more than {_DOTS} parts.", path=path, line=line)
        try:
            self.document = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            reason, place = _toml_place(error)
            raise ModelError(f"This is not TOML: {reason}.", path=path, line=place) from None
        except RecursionError:
            raise ModelError("This is not TOML: brackets are nested too deeply.", path=path) from None
        except ValueError as error:  # a whole number of more digits than Python reads, an impossible date
            reason = f"This is not TOML that can be read: {first_line(error)}"
            raise ModelError(reason.partition("; use sys")[0] + ".", path=path) from None
        self.lines = key_lines(text)

    def error(self, reason: str, where: KeyPath, fix: str = "") -> ModelError:
        return ModelError(reason, path=self.path, line=line_of(self.lines, where), fix=fix)

    def read(self) -> Declaration:
        document = self.document
        if "relatum" not in document:
            raise ModelError(
                "This TOML file is not a model.",
                path=self.path,
                line=1,
                fix=f"A model begins with relatum = {VERSION}, the version of its format.",
            )
        if document["relatum"] != VERSION:
            raise self.error(
                f"The format's version is {document['relatum']!r}; this program reads version {VERSION}.", ("relatum",)
            )
        nested: dict[str, Any] = {kind: {} for kind in ("table", "measure", "hierarchy", "pivot", "report", "theme")}
        nested |= {"relationship": [], "control": []}
        whole = self._entry(ModelEntry, {**document, **nested}, ())
        declaration = Declaration(
            name=whole.name,
            locale=whole.locale,
            currency=whole.currency,
            timezone=whole.timezone,
            theme=self._theme(document.get("theme", {})),
            theme_source=document["theme"] if isinstance(document.get("theme"), str) else "",
            limits=self._limits(whole.limits),
            engine=_engine(whole.engine),
        )
        for name, body in self._named(document, "table"):
            declaration = self._added(declaration.with_table, self._table(name, body), ("table", name))
        for name, table in declaration.tables.items():
            if table.role_of:
                self._check_role(declaration, name, table)
        for number, body in self._numbered(document, "relationship"):
            where: KeyPath = ("relationship", number)
            declaration = self._added(declaration.with_relationship, self._relationship(body, where), where)
        for name, body in self._named(document, "measure"):
            measure = self._measure(name, body)
            declaration = self._added(declaration.with_measure, measure, ("measure", name))
        for name, body in self._named(document, "hierarchy"):
            levels = self._entry(HierarchyEntry, body, ("hierarchy", name))
            hierarchy = filled(Hierarchy, levels, name=name, levels=tuple(levels.levels))
            declaration = self._added(declaration.with_hierarchy, hierarchy, ("hierarchy", name))
        for number, body in self._numbered(document, "control"):
            where = ("control", number)
            entry = self._entry(ControlEntry, body, where)
            control = filled(Control, entry, at=frozen(entry.at))
            declaration = self._added(declaration.with_control, control, (*where, "measure"))
        for name, body in self._named(document, "pivot"):
            asked = self._entry(PivotEntry, body, ("pivot", name))
            self._check_rules(asked.style, ("pivot", name))
            declaration = self._added(declaration.with_pivot, saved_pivot(name, asked), ("pivot", name))
        for name, body in self._named(document, "report"):
            where = ("report", name)
            report = self._entry(Report, body, where)
            self._checked(check_report, report, where)
            declaration = self._added(functools.partial(declaration.with_report, name), report, where)
        return declaration

    # -- parts --------------------------------------------------------------------------------------------------------

    def _table(self, name: str, body: dict[str, Any]) -> Table:
        where: KeyPath = ("table", name)
        nested: dict[str, Any] = {key: {} for key in ("column", "derived") if key in body}
        entry = self._entry(TableEntry, {**body, **nested}, where)
        made = isinstance(entry.calendar, CalendarEntry)
        given = [key for key in ("source", "role_of", "per") if getattr(entry, key)] + (["calendar"] if made else [])
        # A part or a query without a source is one of the engine that the model names.
        there = bool(entry.part or entry.query) and self.document.get("engine", "memory") != "memory"
        given += ["part" if entry.part else "query"] if there and not entry.source else []
        for choice in () if there else ("part", "query", "null", "footer", "headings"):
            if getattr(entry, choice) and not entry.source:
                raise self.error(f"The table {name} has a {choice} but no source.", (*where, choice), "State it.")
        if len(given) > 1:
            raise self.error(
                f"The table {name} has both {given[0]} and {given[1]}.",
                (*where, given[1]),
                "Keep one of them.",
            )
        if not given:
            raise self.error(
                f"The table {name} has no source.",
                where,
                'Add source = "file", role_of = "table", per = ["table.column"] or calendar = { from = …, to = … }.',
            )
        if entry.columns and not entry.per:
            raise self.error(f"The table {name} has columns but no grain.", (*where, "columns"), 'Add per = ["…"].')
        columns = {
            column: self._column(settings, (*where, "column", column))
            for column, settings in self._named(body, "column", where)
        }
        derived = {}
        for column, each in self._named(body, "derived", where):
            own = self._entry(DerivedEntry, each, (*where, "derived", column))
            said = {setting: getattr(own, setting) for setting in BESIDE_FORMULA if getattr(own, setting)}
            settings = columns.get(column, ColumnSettings())
            twice = next((setting for setting in said if getattr(settings, setting)), "")
            if twice:
                place = (*where, "column", column, twice)
                raise self.error(f"The {twice} of {name}.{column} is given twice.", place, "Give it once.")
            if said:
                columns[column] = structs.replace(settings, **said)
            derived[column] = Derived(column, own.formula, own.about, tuple(said))
        return filled(
            Table,
            entry,
            name=name,
            key=texts_in(entry.key),
            calendar=self._calendar(entry.calendar, (*where, "calendar")),
            dated=entry.calendar is True,
            per=texts_in(entry.per),
            formulas=frozen(entry.columns),
            columns=frozen(columns),
            derived=frozen(derived),
            null=texts_in(entry.null),
        )

    def _column(self, body: dict[str, Any], where: KeyPath) -> ColumnSettings:
        entry = self._entry(ColumnEntry, body, where)
        self._check_rules(entry.style, where)
        for colour in entry.colours.values():
            self._checked(functools.partial(check_colour, word="colours"), colour, where)
        return filled(ColumnSettings, entry, null=texts_in(entry.null), colours=frozen(entry.colours))

    def _check_rules(self, rules: tuple[StyleRule, ...], where: KeyPath) -> None:
        for rule in rules:
            self._checked(check_rule, rule, (*where, "style"))

    def _checked(self, check: Callable[[Any], object], item: Any, where: KeyPath) -> Any:
        """What a check returns; its error gets the line where what it is about is."""
        try:
            return check(item)
        except ModelError as error:
            raise self.error(error.reason, (*where, *error.place), error.fix) from None

    def _theme(self, said: Any) -> Theme:
        """The theme that the file holds or names."""
        if not isinstance(said, str):
            if not isinstance(said, dict):
                raise self.error(f"theme is {said!r}; it must be a table, or a file's name in quotes.", ("theme",))
            theme = self._entry(Theme, said, ("theme",))
            self._checked(check_theme, theme, ("theme",))
            return theme
        if not said:
            return Theme()
        folder = self.path.parent.resolve()
        if leads_outside(folder / said, folder):
            raise self.error(
                f"The theme {said} lies outside the model's folder.", ("theme",), "Put the file beside the model."
            )
        return read_theme(self.path.parent / said)

    def _limits(self, said: dict[str, int | str]) -> Mapping[str, int | str]:
        self._checked(read_limits, said, ("limits",))
        return frozen(said)

    def _calendar(self, entry: CalendarEntry | bool | None, where: KeyPath) -> CalendarRange | None:
        if not isinstance(entry, CalendarEntry):
            return None
        try:
            return calendar_range(entry.first, entry.last, entry.fiscal_year_starts, entry.week_starts, entry.through)
        except ModelError as error:
            raise self.error(error.reason, where, error.fix) from None

    def _check_role(self, declaration: Declaration, name: str, table: Table) -> None:
        try:
            check_role(declaration, table)
        except ModelError as error:
            raise self.error(error.reason, ("table", name, "role_of"), error.fix) from None

    def _relationship(self, body: dict[str, Any], where: KeyPath) -> Relationship:
        entry = self._entry(RelationshipEntry, body, where)
        try:
            return relationship(entry.link, entry.direction, entry.match, entry.level, entry.standby)
        except ModelError as error:
            raise self.error(error.reason, (*where, *error.place), error.fix) from None

    def _measure(self, name: str, body: dict[str, Any]) -> Measure:
        entry = self._entry(MeasureEntry, body, ("measure", name))
        try:
            refuse_choice(entry.unrelated, ("blank", "repeat"), "unrelated")
        except ModelError as error:
            raise self.error(error.reason, ("measure", name, "unrelated"), error.fix) from None
        words = {word: getattr(entry, word) for word in FORMAT_WORDS}
        writing = self._checked(format_of_words, {**words, "format": ""}, ("measure", name))
        self._check_rules(entry.style, ("measure", name))
        return filled(Measure, entry, name=name, writing=writing)

    # -- decoding -----------------------------------------------------------------------------------------------------

    def _added(self, add: Any, item: Any, where: KeyPath) -> Declaration:
        try:
            result: Declaration = add(item)
        except ModelError as error:
            raise self.error(error.reason, where, error.fix) from None
        return result

    def _named(self, body: dict[str, Any], key: str, above: KeyPath = ()) -> list[tuple[str, dict[str, Any]]]:
        entries = body.get(key, {})
        if not isinstance(entries, dict) or not all(isinstance(entry, dict) for entry in entries.values()):
            wrong = (
                key
                if not isinstance(entries, dict)
                else f"{key}.{next(n for n, e in entries.items() if not isinstance(e, dict))}"
            )
            heading = ".".join([*map(str, above), key, "NAME"])
            raise self.error(
                f"{wrong} must be a table of settings.", (*above, key), f"Write [{heading}] above its settings."
            )
        return list(entries.items())

    def _numbered(self, body: dict[str, Any], key: str) -> list[tuple[int, dict[str, Any]]]:
        entries = body.get(key, [])
        if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
            raise self.error(f"{key} must be a list of settings.", (key,), f"Write [[{key}]] above each.")
        return list(enumerate(entries))

    def _entry(self, kind: type[Entry], body: dict[str, Any], where: KeyPath) -> Entry:
        keys = _keys_of(kind)
        for key in body:
            if key not in keys:
                raise self.error(f"Unknown key {key}.", (*where, key), suggestion(key, keys, noun="key"))
        for name, required in keys.items():
            if required and name not in body:
                raise self.error(f"The key {name} is missing.", where, f"Add {name} = …")
        try:
            return msgspec.convert(body, kind)
        except msgspec.ValidationError as error:
            raise self._wrong_value(error, body, where) from None

    def _wrong_value(self, error: msgspec.ValidationError, body: dict[str, Any], where: KeyPath) -> ModelError:
        reason, _, place = str(error).partition(" - at `$.")
        key = place.split(".")[0].split("[")[0].rstrip("`")
        value: Any = body.get(key)
        inner = place.rstrip("`").split(".")[1:]
        if isinstance(value, dict) and inner and inner[0] in value:
            value = value[inner[0]]
            key = f"{key}.{inner[0]}"
        wanted = reason.replace("Expected ", "").split(", got")[0].replace("`", "")
        words = {
            "str": "text in quotes",
            "int": "a whole number",
            "bool": "true or false",
            "array": "a list",
            "object": "a table { … }",
            "date": "a date such as 2024-12-31",
            "float": "a number",
            "null": "",
        }
        allowed = [words.get(word.strip(), word.strip()) for word in wanted.split("|")]
        shown = " or ".join(dict.fromkeys(word for word in allowed if word))
        if reason.startswith("Object"):
            return self.error(f"{key}: {reason.replace('`', '')}.", (*where, *key.split(".")))
        return self.error(f"{key} is {value!r}; it must be {shown}.", (*where, *key.split(".")))


@functools.cache
def _keys_of(kind: type[msgspec.Struct]) -> dict[str, bool]:
    """The keys of an entry, and which of them it needs."""
    return {field.encode_name: field.required for field in msgspec.structs.fields(kind)}


def _engine(said: EngineChoice | EngineKind) -> EngineChoice:
    return said if isinstance(said, EngineChoice) else EngineChoice(said)


def _toml_place(error: tomllib.TOMLDecodeError) -> tuple[str, int | None]:
    text, _, place = str(error).partition(" (at line ")
    number = place.split(",")[0]
    return text[:1].lower() + text[1:], int(number) if number.isdigit() else None


def read_theme(path: Path) -> Theme:
    """Read a file that holds a theme alone: the keys of ``[theme]`` at its top.

    Raises
    ------
    ModelError
        It is missing, no TOML, or has a key or value that a theme cannot have.
    """
    reader = _Reader(path, read_text(path))
    theme = reader._entry(Theme, reader.document, ())
    reader._checked(check_theme, theme, ())
    return theme


def theme_of(said: dict[str, Any]) -> Theme:
    """A theme from its keys; a ModelError says which cannot be."""
    try:
        theme = msgspec.convert(said, Theme)
    except msgspec.ValidationError as error:
        raise ModelError(f"Invalid theme: {str(error).replace('`', '')}.") from None
    check_theme(theme)
    return theme


def read_report(path: Path, declaration: Declaration) -> Report:
    """Read a file that holds a report alone: the keys of ``[report.NAME]`` at its top.

    Raises
    ------
    ModelError
        It is missing, no TOML, or has a part that cannot be one.
    """
    reader = _Reader(path, read_text(path))
    report = reader._entry(Report, reader.document, ())
    reader._checked(check_report, report, ())
    reader._added(functools.partial(declaration.with_report, path.stem), report, ())
    return report


# -- checks shared by the file and the Python side --------------------------------------------------------------------


def texts_in(given: str | Iterable[str]) -> tuple[str, ...]:
    """One text, or several, as a tuple."""
    return (given,) if isinstance(given, str) and given else tuple(given)


def saved_pivot(name: str, entry: PivotEntry) -> SavedPivot:
    """A saved pivot from what the file says of it."""
    lists = {axis: texts_in(getattr(entry, axis)) for axis in ("rows", "columns", "values")}
    return filled(SavedPivot, entry, name=name, keep=", ".join(texts_in(entry.keep)), **lists)


def relationship(
    link: str, direction: str = "", match: str = "equal", level: bool = False, standby: bool = False
) -> Relationship:
    """A relationship from its link and settings, checked."""
    many, one, kind = parse_link(link)
    if kind == "many_to_many":
        if not direction:
            raise ModelError(
                f"The many-to-many relationship {link} has no direction.",
                fix=f'Write direction = "left" (filters travel to {many.table}), "right" (to {one.table}) or "both".',
                place=("link",),
            )
        refuse_choice(direction, ("left", "right", "both"), "direction")
    else:
        refuse_choice(direction or "down", ("down", "both", "off"), "direction")
    refuse_choice(match, ("equal", "as_of"), "match")
    if level and match == "as_of":
        raise ModelError(
            "A relationship to a level cannot also match as of a date.", fix="Leave out either level or match."
        )
    if kind != "many_to_one" and (level or match == "as_of"):
        raise ModelError(
            f"{link}: only a many-to-one relationship can relate to a level or match as of a date.", place=("link",)
        )
    if level and direction == "both":
        raise ModelError(
            f"{link}: filters can travel only from a level, not to it.", fix='Leave direction out, or set it to "off".'
        )
    return Relationship(
        many=many, one=one, direction=direction or "down", match=match, level=level, kind=kind, standby=standby
    )


def calendar_range(
    first: date, last: date, fiscal_year_starts: int = 1, week_starts: str = "monday", through: str | date = ""
) -> CalendarRange:
    """The settings of a generated calendar, checked."""
    refuse_choice(week_starts, WEEKDAYS, "week_starts")
    for word, end in (("first", first), ("last", last)):
        if not isinstance(end, date) or isinstance(end, datetime):
            raise ModelError(
                f"The {word} day of the calendar is {end!r}, which is not a date.", fix="Write date(2024, 1, 1)."
            )
    if not isinstance(through, str | date):
        raise ModelError(f"through is {through!r}; it must be a date column, as table.column, or a date.")
    if not 1 <= fiscal_year_starts <= 12:
        raise ModelError(f"fiscal_year_starts is {fiscal_year_starts}; it must be a month, 1 to 12.")
    if last < first:
        raise ModelError(f"The calendar ends on {last}, before it begins on {first}.", fix="Swap from and to.")
    return CalendarRange(first, last, fiscal_year_starts, week_starts, through)


def check_role(declaration: Declaration, table: Table) -> None:
    """Raise a ModelError unless a role's table is there and is not a role itself."""
    if table.role_of not in declaration.tables or table.role_of == table.name:
        raise ModelError(
            f"{table.name} is a role of {table.role_of}, which is not a table of the model.",
            fix=suggestion(table.role_of, [name for name in declaration.tables if name != table.name], noun="table"),
        )
    if declaration.tables[table.role_of].role_of:
        raise ModelError(f"{table.role_of} is itself a role.", fix=f"Name the table that {table.role_of} is a role of.")
    described = [name for name, each in table.columns.items() if each != ColumnSettings(label=each.label)]
    if table.derived or described:
        raise ModelError(
            f"{table.name} is a role: its columns are those of {table.role_of}.",
            fix=f"Describe the columns of {table.role_of} instead; a role's columns have only their own labels.",
        )
