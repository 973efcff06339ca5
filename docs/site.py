"""What the site has beside its pages: the pictures of the gallery, and the reference of the model file."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Any

import click
import msgspec

import relatum
from relatum.cli.main import app
from relatum.demo.write import write_demo
from relatum.model.entries import ModelEntry
from relatum.present.pictures import picture_bytes

DOCS = Path(__file__).parent
_DRAWN = re.compile(r"<!-- draws: (\w+) -->\n\n?```py\n(.*?)```", re.DOTALL)


def on_pre_build(config: Any) -> None:
    """Draw and write them again."""
    (DOCS / "generated").mkdir(exist_ok=True)
    (DOCS / "gallery").mkdir(exist_ok=True)
    write_changed(DOCS / "generated" / "file.md", file_reference().encode())
    write_changed(DOCS / "generated" / "commands.md", command_reference().encode())
    with tempfile.TemporaryDirectory() as folder:
        model = relatum.open(write_demo(Path(folder) / "hollowmere"))
        for name, code in _DRAWN.findall((DOCS / "looks.md").read_text(encoding="utf-8")):
            names: dict[str, Any] = {"model": model, "relatum": relatum}
            *statements, last = re.split(r"\n(?=\S)(?![)\]}])", code.strip())
            exec("\n".join(statements), names)
            figure = eval(last, names)
            write_changed(DOCS / "gallery" / f"{name}.svg", picture_bytes(figure, ".svg"))


def write_changed(path: Path, content: bytes) -> None:
    """Write a file if its content changed, so that nothing is built again without need."""
    if not path.exists() or path.read_bytes() != content:
        path.write_bytes(content)


def command_reference() -> str:
    """The reference of the commands, from what reads them."""
    lines = [
        "# Commands",
        "",
        "Every command with its arguments and options. Results go to standard output, messages to standard error.",
        "",
        *_command("relatum", app),
    ]
    for name, command in sorted(app.commands.items()):
        lines += _command(f"relatum {name}", command)
        if isinstance(command, click.Group):
            for inner, part in sorted(command.commands.items()):
                lines += _command(f"relatum {name} FILE {inner}", part)
    return "\n".join(lines)


def _command(name: str, command: click.Command) -> list[str]:
    context = click.Context(command, info_name=name)
    records = [each.get_help_record(context) for each in command.get_params(context)]
    text = re.sub(r"Example: (.*)", r"\n\n    \1", " ".join((command.help or "").split()), flags=re.DOTALL)
    rows = [f"| `{option.replace('|', chr(92) + '|')}` | {_cell(said)} |" for option, said in filter(None, records)]
    return [f"## {name}", "", text, "", "| argument or option | meaning |", "|---|---|", *rows, ""]


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


def file_reference() -> str:
    """The reference of the model file, from the types that read it."""
    lines = [
        "# The model file",
        "",
        "TOML. Every key, as the reader knows it; `relatum = 1` is the format's version.",
        "",
    ]
    lines += [*_struct(ModelEntry, "The whole file"), ""]
    done = {ModelEntry}
    pending = [ModelEntry]
    while pending:
        for field in msgspec.structs.fields(pending.pop(0)):
            for inner in _structs(field.type):
                if inner not in done:
                    done.add(inner)
                    pending.append(inner)
                    lines += [*_struct(inner, (inner.__doc__ or "").split("\n")[0].rstrip(".")), ""]
    return "\n".join(lines) + "\n"


def _struct(struct: Any, heading: str) -> list[str]:
    lines = [f"## {heading}", ""]
    rest = "\n".join((struct.__doc__ or "").split("\n")[1:]).strip()
    if rest:
        lines += [re.sub(r"\s+", " ", rest).replace("``", "`"), ""]
    lines += ["| key | is | unless stated |", "| --- | --- | --- |"]
    for field in msgspec.structs.fields(struct):
        default = field.default if field.default is not msgspec.NODEFAULT else None
        needed = (
            "must be stated" if field.required else "" if default in ("", None, 0, False, (), []) else f"`{default}`"
        )
        if isinstance(default, msgspec.Struct):
            needed = ""
        lines.append(f"| `{field.encode_name}` | {_kind(field.type)} | {needed} |")
    return lines


_NAMES = {str: "text", int: "whole number", float: "number", bool: "true or false", type(None): "", Any: "any value"}


def _kind(type_: Any) -> str:
    origin = getattr(type_, "__origin__", None)
    arguments = getattr(type_, "__args__", ())
    if type_ in _NAMES:
        return _NAMES[type_]
    if isinstance(type_, type) and issubclass(type_, msgspec.Struct):
        return f"[a table](#{_anchor((type_.__doc__ or '').split(chr(10))[0].rstrip('.'))})"
    if origin is dict:
        return f"by name, {_kind(arguments[1])}"
    if origin in (list, tuple):
        return f"list of {_kind(arguments[0])}"
    if origin is not None and str(origin) == "typing.Literal":
        return ", ".join(f"`{each}`" for each in arguments if each)
    if arguments:
        return " or ".join(filter(None, map(_kind, arguments)))
    return getattr(type_, "__name__", str(type_))


def _anchor(heading: str) -> str:
    return re.sub(r"[\s]+", "-", re.sub(r"[^\w\s-]", "", heading.replace("``", "")).strip().lower())


def _structs(type_: Any) -> list[Any]:
    if isinstance(type_, type) and issubclass(type_, msgspec.Struct):
        return [type_]
    return [found for each in getattr(type_, "__args__", ()) for found in _structs(each)]
