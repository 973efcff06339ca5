"""How things are to look: formats of values, style rules, themes. What each is worth on a screen is drawn elsewhere."""

from __future__ import annotations

import re
from typing import Any, Literal, get_args

import msgspec

from relatum.errors import ModelError
from relatum.wording import suggestion

#: Powers of ten that a value may be shown in, by what they are called.
SCALES = {
    "thousands": 3,
    "ten thousands": 4,
    "hundred thousands": 5,
    "lakh": 5,
    "millions": 6,
    "crore": 7,
    "billions": 9,
    "automatic": 0,
}
Duration = Literal["", "seconds", "minutes", "hours", "days"]
Weight = Literal["", "bold", "normal"]
#: Colours that a theme names; a rule may also say #rrggbb.
COLOUR_WORDS = ("good", "bad", "notable", "faint", "low", "middle", "high")
_HEX = re.compile(r"#(?:[0-9a-fA-F]{3}|[0-9a-fA-F]{6})")
_MOST_DIGITS = 15


class Format(msgspec.Struct, frozen=True, omit_defaults=True):
    """How values are written.

    ``pattern`` is a number or date pattern of Unicode CLDR, ``scale`` the power of ten that numbers are shown in,
    ``digits`` how many significant ones, ``duration`` the unit that a number counts, shown as time. ``blank``, ``zero``
    and ``infinity`` are texts for null, zero and what is infinite.
    """

    pattern: str = ""
    scale: str = ""
    digits: int = 0
    duration: Duration = ""
    blank: str = ""
    zero: str = ""
    infinity: str = ""

    def over(self, other: Format) -> Format:
        """This format, and where it says nothing the other."""
        own = {name: value for name, value in msgspec.structs.asdict(self).items() if value}
        return msgspec.structs.replace(other, **own)

    @property
    def whole(self) -> Format:
        """The same format, numbers not shown in thousands or the like."""
        return msgspec.structs.replace(self, scale="")


def said_of(format: Format) -> dict[str, str | int]:
    """The words that a format says something with, and what."""
    words = {"format" if name == "pattern" else name: value for name, value in msgspec.structs.asdict(format).items()}
    return {word: value for word, value in words.items() if value}


#: Says nothing: the usual way of a type.
PLAIN = Format()

FORMAT_WORDS = ("format", "scale", "digits", "duration", "blank", "zero", "infinity")


def format_of_words(words: dict[str, Any]) -> Format:
    """A format from its words, checked but for its pattern.

    Raises
    ------
    ModelError
        A word has a value that it cannot have; ``place`` names it.
    """
    unknown = [word for word in words if word not in FORMAT_WORDS]
    if unknown:
        raise ModelError(
            f"A format has no setting {unknown[0]}.",
            fix=suggestion(unknown[0], FORMAT_WORDS, noun="word"),
            place=(unknown[0],),
        )
    found = Format(words.get("format", ""), **{word: words[word] for word in FORMAT_WORDS[1:] if word in words})
    refuse_other(found.scale, ("", *SCALES), "scale")
    refuse_other(found.duration, get_args(Duration), "duration")
    if isinstance(found.digits, bool) or not isinstance(found.digits, int) or not 0 <= found.digits <= _MOST_DIGITS:
        raise ModelError(f"digits is {found.digits!r}; it can be 1 to {_MOST_DIGITS}.", place=("digits",))
    if found.duration and (found.scale or found.digits):
        other = "scale" if found.scale else "digits"
        raise ModelError(f"A duration has no setting {other}: it is shown as hours and minutes.", place=(other,))
    return found


def refuse_other(value: str, allowed: tuple[str, ...], word: str) -> None:
    """Raise an error unless a word of a format or style has one of the values that it can have."""
    if value not in allowed:
        known = [each for each in allowed if each]
        raise ModelError(
            f"{word} is {value!r}; it can be {', '.join(known)}.", fix=suggestion(str(value), known), place=(word,)
        )


class StyleRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One rule: which cells, and what they look like.

    ``value`` is the label of a request's value, ``field`` a column on an axis; a rule of a measure or column has its
    own. ``when`` is a condition, evaluated in the cell, or for a field at the member; ``members`` are the ones meant.
    ``colour``, ``fill``, ``weight`` and ``mark`` are what such cells get. ``bar`` draws the number as a bar; ``shades``
    are two or three colours from the lowest value to the highest, or at the numbers ``between``. ``about`` is what the
    legend says.
    """

    value: str = ""
    field: str = ""
    when: str = ""
    members: tuple[Any, ...] = ()
    colour: str = ""
    fill: str = ""
    weight: Weight = ""
    mark: str = ""
    bar: bool | str = False
    shades: tuple[str, ...] = ()
    between: tuple[float, ...] = ()
    about: str = ""


def check_rule(rule: StyleRule) -> None:
    """Raise a ModelError for a rule that says nothing, or contradicts itself; ``place`` names the word."""
    for word in ("colour", "fill"):
        check_colour(getattr(rule, word), word)
    if isinstance(rule.bar, str):
        check_colour(rule.bar, "bar")
    for colour in rule.shades:
        check_colour(colour, "shades")
    if rule.shades and len(rule.shades) not in (2, 3):
        raise ModelError("shades are two or three colours, from low to high.", place=("shades",))
    if rule.between and len(rule.between) != len(rule.shades or (1, 2)):
        raise ModelError(
            "between needs a number for each colour of shades, or for both ends of a bar.", place=("between",)
        )
    if any(one >= other for one, other in zip(rule.between, rule.between[1:], strict=False)):
        raise ModelError("The numbers of between must increase.", place=("between",))
    if len(rule.mark) > 2:
        raise ModelError(f"The mark {rule.mark!r} is longer than two characters.", place=("mark",))
    if rule.value and rule.field:
        raise ModelError("A rule applies to a value or a field, not both.", place=("field",))
    if rule.field and (rule.bar or rule.shades):
        raise ModelError("Bars and shades show numbers, so they need a value.", place=("field",))
    if rule.when and rule.members:
        raise ModelError("A rule takes a condition or members, not both.", place=("members",))
    if (rule.bar or rule.shades) and (rule.when or rule.members):
        raise ModelError("Bars and shades apply to all cells of a value, so they take no condition.", place=("when",))
    if not (rule.colour or rule.fill or rule.weight or rule.mark or rule.bar or rule.shades):
        raise ModelError(
            "The rule sets no style.", fix="Set colour, fill, weight, mark, bar or shades.", place=("when",)
        )


def check_colour(colour: str, word: str) -> None:
    """Raise a ModelError for a text that is not a colour."""
    if colour and colour not in COLOUR_WORDS and not _HEX.fullmatch(colour):
        raise ModelError(
            f"{word} is {colour!r}, which is not a colour.",
            fix=f"Write #rrggbb, or one of the theme's: {', '.join(COLOUR_WORDS)}.",
            place=(word,),
        )


class ThemeColours(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Colours of one mode, light or dark; those that are not stated are the usual ones."""

    page: str = ""
    text: str = ""
    head: str = ""
    head_text: str = ""
    total: str = ""
    null: str = ""
    negative: str = ""
    line: str = ""
    accent: str = ""
    good: str = ""
    bad: str = ""
    notable: str = ""
    faint: str = ""
    low: str = ""
    middle: str = ""
    high: str = ""
    series: tuple[str, ...] = ()


class Theme(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """``[theme]``: fonts, sizes in points, colours for light and dark, widths in characters.

    ``widths`` are by ``table.column`` of a field, or by the label of a value.
    """

    font: str = ""
    number_font: str = ""
    size: float = 0
    light: ThemeColours = ThemeColours()
    dark: ThemeColours = ThemeColours()
    widths: dict[str, int] = {}


#: Says nothing: everything as it usually is.
USUAL = Theme()


def check_theme(theme: Theme) -> None:
    """Raise a ModelError for an invalid colour, or a size or width in which nothing could be drawn."""
    for mode in ("light", "dark"):
        for name, colour in msgspec.structs.asdict(getattr(theme, mode)).items():
            for each in (colour,) if isinstance(colour, str) else colour:
                if each and not _HEX.fullmatch(each):
                    raise ModelError(
                        f"{mode}.{name} is {each!r}, which is not a colour.", fix="Write #rrggbb.", place=(mode, name)
                    )
    if theme.size and not 4 <= theme.size <= 40:
        raise ModelError(f"size is {theme.size:g}; it can be 4 to 40 points.", place=("size",))
    for name, width in theme.widths.items():
        if not 3 <= width <= 200:
            raise ModelError(f"The width of {name} is {width}; it can be 3 to 200 characters.", place=("widths",))
    if re.search(r'[;{}<>\\"]', theme.font + theme.number_font):
        raise ModelError("A font name can contain letters, digits, spaces and commas.", place=("font",))


class ReportPart(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """``[[report.NAME.part]]``: a text in Markdown, key figures, the diagram, or a saved pivot as chart and table.

    ``figures`` are measures or formulas as a pivot's values are; ``against`` are changes in square brackets, whose
    value each figure is compared with. ``where`` holds beside the pivot's own condition.
    """

    heading: str = ""
    text: str = ""
    figures: tuple[str, ...] = ()
    against: str = ""
    pivot: str = ""
    chart: str = ""
    table: bool = True
    where: str = ""
    diagram: bool = False


class Report(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """``[report.NAME]``: parts to be read one after the other."""

    part: tuple[ReportPart, ...] = ()
    title: str = ""
    about: str = ""


def check_report(report: Report) -> None:
    """Raise a ModelError for a report without parts, or a part that says nothing or two things."""
    if not report.part:
        raise ModelError("The report has no parts.", fix="Write [[report.NAME.part]] with text, figures or a pivot.")
    for number, part in enumerate(report.part):
        kinds = [word for word in ("text", "figures", "pivot", "diagram") if getattr(part, word)]
        place = ("part", number)
        if len(kinds) != 1:
            said = " and ".join(kinds) if kinds else "nothing"
            raise ModelError(
                f"Part {number + 1} of the report has {said}.",
                fix="A part needs exactly one of text, figures, pivot or diagram = true.",
                place=place,
            )
        if part.against and kinds != ["figures"]:
            raise ModelError("against applies only to figures.", place=(*place, "against"))
        if kinds == ["pivot"] and not part.chart and not part.table:
            raise ModelError(f"Part {number + 1} has neither chart nor table.", place=(*place, "table"))
