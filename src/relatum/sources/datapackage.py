"""Data Packages: tables with their columns, keys and foreign keys in one descriptor.

The format is the open standard of https://datapackage.org (Data Package and Table Schema, version 1 and 2).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from relatum.data.types import Kind, Type
from relatum.errors import SourceError
from relatum.runtime.limits import refuse_above
from relatum.runtime.paths import leads_outside
from relatum.sources.database.base import ForeignKey
from relatum.sources.files import plain_file
from relatum.sources.read import files_in
from relatum.wording import counted, suggestion

#: The types of a Table Schema, and what they are here. Others are left to what the file says.
_TYPES = {
    "string": "text",
    "integer": "integer",
    "number": "",
    "boolean": "boolean",
    "date": "date",
    "datetime": "timestamp",
    "year": "integer",
    "yearmonth": "text",
}


class _Field(msgspec.Struct):
    name: str
    type: str = "string"
    title: str = ""
    description: str = ""


class _Reference(msgspec.Struct):
    fields: str | list[str]
    resource: str = ""


class _ForeignKey(msgspec.Struct):
    fields: str | list[str]
    reference: _Reference


class _Schema(msgspec.Struct, rename="camel"):
    fields: list[_Field] = []
    primary_key: str | list[str] = []
    foreign_keys: list[_ForeignKey] = []


class _Resource(msgspec.Struct):
    name: str
    path: str | list[str] = ""
    description: str = ""
    schema: _Schema | str | None = None


class _Package(msgspec.Struct):
    resources: list[_Resource]
    name: str = ""
    title: str = ""


class Resource(Struct, frozen=True):
    """One table of a package: its file, and what the descriptor states about it."""

    name: str
    path: str
    about: str
    types: Mapping[str, str]
    labels: Mapping[str, str]
    key: tuple[str, ...]
    foreign_keys: tuple[ForeignKey, ...]


def read_datapackage(path: Path) -> tuple[str, list[Resource]]:
    """A package's name and tables.

    Raises
    ------
    SourceError
        The descriptor is not such JSON, or a resource has no file.
    """
    size = plain_file(path).stat().st_size
    refuse_above("model", size, f"{path} has {counted(size, 'byte')}")
    try:
        package = msgspec.json.decode(path.read_bytes(), type=_Package)
    except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError) as error:
        raise SourceError(f"This is not a Data Package descriptor: {error}.", path=path) from None
    names = [each.name for each in package.resources]
    twice = next((name for name in names if names.count(name) > 1), None) if len(set(names)) < len(names) else None
    if twice is not None:
        raise SourceError(f"Two resources have the name {twice}.", path=path, fix="Give each a different name.")
    return package.name, [_resource(each, names, path) for each in package.resources]


def _resource(resource: _Resource, names: list[str], path: Path) -> Resource:
    schema = resource.schema or _Schema()
    if isinstance(schema, str):
        raise SourceError(
            f"The schema of {resource.name} is in another file, {schema}.", path=path, fix="Put it in the resource."
        )
    foreign = []
    for each in schema.foreign_keys:
        target = each.reference.resource or resource.name
        if target not in names:
            raise SourceError(
                f"A foreign key of {resource.name} names {target}, which is not a resource.",
                path=path,
                fix=suggestion(target, names, noun="resource"),
            )
        foreign.append(ForeignKey(_listed(each.fields), target, _listed(each.reference.fields)))
    return Resource(
        name=resource.name,
        path=_one_path(resource, path),
        about=resource.description,
        types={each.name: _TYPES[each.type] for each in schema.fields if _TYPES.get(each.type)},
        labels={each.name: each.title for each in schema.fields if each.title},
        key=_listed(schema.primary_key),
        foreign_keys=tuple(foreign),
    )


def _one_path(resource: _Resource, path: Path) -> str:
    paths = _listed(resource.path)
    if not paths:
        raise SourceError(
            f"The resource {resource.name} has no path.", path=path, fix="Data inside the descriptor is not read."
        )
    if len(set(paths)) < len(paths):
        raise SourceError(
            f"The resource {resource.name} names the same path twice.", path=path, fix="Name each file once."
        )
    if any(leads_outside(path.parent / each, path.parent) for each in paths if "://" not in each):
        raise SourceError(
            f"The resource {resource.name} lies outside the folder of the descriptor.",
            path=path,
            fix="Put its file beside the descriptor, or below.",
        )
    if any("://" in each for each in paths):
        raise SourceError(
            f"The resource {resource.name} lies elsewhere: {paths[0]}.", path=path, fix="Download it first."
        )
    if len(paths) == 1:
        return paths[0]
    folder = Path(paths[0]).parent
    names = [Path(each).name for each in paths]
    alike = next((at for at in range(len(names[0]) + 1) if len({name[: at + 1] for name in names}) > 1), 0)
    pattern = f"{names[0][:alike]}*{Path(paths[0]).suffix}"
    if files_in(path.parent / folder / pattern) != sorted(path.parent / each for each in paths):
        raise SourceError(
            f"The files of {resource.name} cannot be matched by one pattern.",
            path=path,
            fix="Put them in one folder, with names that begin with the same text.",
        )
    return (folder / pattern).as_posix()


def _listed(value: str | Sequence[str]) -> tuple[str, ...]:
    return ((value,) if value else ()) if isinstance(value, str) else tuple(value)


def package_document(
    name: str, resources: Sequence[Resource], types: Mapping[str, Mapping[str, Type]]
) -> dict[str, Any]:
    """A descriptor as plain data, from the known facts about each table.

    Parameters
    ----------
    name : str
        The package's name.
    resources : sequence of Resource
        The tables; their ``types`` are not used.
    types : mapping of str to mapping of str to Type
        The columns of each.
    """
    return {
        "$schema": "https://datapackage.org/profiles/2.0/datapackage.json",
        "name": name,
        "resources": [_described(each, types[each.name]) for each in resources],
    }


def _described(resource: Resource, types: Mapping[str, Type]) -> dict[str, Any]:
    schema: dict[str, Any] = {
        "fields": [
            {"name": name, "type": _field_type(type_)}
            | ({"title": resource.labels[name]} if name in resource.labels else {})
            for name, type_ in types.items()
        ]
    }
    if resource.key:
        schema["primaryKey"] = list(resource.key)
    if resource.foreign_keys:
        schema["foreignKeys"] = [
            {
                "fields": list(each.columns),
                "reference": {"resource": each.target, "fields": list(each.target_columns)},
            }
            for each in resource.foreign_keys
        ]
    suffix = Path(resource.path).suffix.lstrip(".")
    described = {"name": resource.name, "type": "table", "path": resource.path, "format": suffix, "schema": schema}
    return described | ({"description": resource.about} if resource.about else {})


def _field_type(type_: Type) -> str:
    named = {
        Kind.INTEGER: "integer",
        Kind.DECIMAL: "number",
        Kind.FLOAT: "number",
        Kind.BOOLEAN: "boolean",
        Kind.DATE: "date",
        Kind.TIMESTAMP: "datetime",
    }
    return named.get(type_.kind, "string")
