"""The border of the library: what a public call is given is looked at before anything is done with it.

What a call takes is what its signature says. Every argument is checked against that, in one place and in one way, and
handed on as a plain value: a text of a kind of its own as a text, a number of NumPy's as a number. An object that has a
way of its own to carry a call out (``_carry_out``) does so.
"""

from __future__ import annotations

import builtins
import functools
import inspect
import numbers
import os
import reprlib
import types
import typing
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal, TypeVar, Union

from relatum.errors import ArgumentError
from relatum.wording import visible

_Class = TypeVar("_Class", bound=type)
_Call = TypeVar("_Call", bound=Callable[..., Any])
#: Gives an argument as a plain value, or raises _Wrong.
_Check = Callable[[Any, int], Any]

#: Lists and dictionaries nest so deep at most.
_DEEPEST = 30
#: No call takes a text of more characters.
_LONGEST = 64 << 20
#: No call takes a whole number of more bits: a float has no more either.
_WIDEST = 1100
_SHOWN = reprlib.Repr()
_SHOWN.maxstring = _SHOWN.maxother = 60


class _Wrong(Exception):
    """A value is not what it must be."""


def checked(cls: _Class) -> _Class:
    """A class whose public methods look at their arguments."""
    for name, each in list(vars(cls).items()):
        if name.startswith("_") and name != "__init__":
            continue
        if isinstance(each, classmethod):
            setattr(cls, name, classmethod(_looking(each.__func__, f"{cls.__name__}.{name}", method=True)))
        elif inspect.isfunction(each):
            shown = cls.__name__ if name == "__init__" else name
            setattr(cls, name, _looking(each, shown, method=True))
    return cls


def checked_call(shown: str) -> Callable[[_Call], _Call]:
    """Have a function look at its arguments; ``shown`` is what it is called in messages."""
    return lambda call: _looking(call, shown, method=False)


def _looking(call: _Call, shown: str, *, method: bool) -> _Call:
    own = inspect.unwrap(call)
    signature = inspect.signature(own)
    generates = inspect.isgeneratorfunction(own)

    @functools.cache
    def checks() -> tuple[list[tuple[str, _Check | None]], dict[str, _Check], _Check | None]:
        """What looks at arguments in their order, what at those by name, and what at those of any other name."""
        kinds = inspect.Parameter
        parameters = signature.parameters.values()
        by_name = {each.name: _check_of(each, own) for each in parameters}
        several = next((each.name for each in parameters if each.kind is kinds.VAR_POSITIONAL), "")
        more = next((by_name.pop(each.name) for each in parameters if each.kind is kinds.VAR_KEYWORD), None)
        in_order: list[tuple[str, _Check | None]] = [
            (each.name, by_name[each.name])
            for each in parameters
            if each.kind in (kinds.POSITIONAL_ONLY, kinds.POSITIONAL_OR_KEYWORD)
        ]
        if method:
            in_order[0] = in_order[0][0], None
        return [*in_order, (several, by_name.pop(several, None))], by_name, more

    @functools.wraps(call)
    def looked(*arguments: Any, **named: Any) -> Any:
        # Too many, too few and unknown arguments are left to the call itself.
        in_order, by_name, more = checks()
        given = []
        for at, each in enumerate(arguments):
            name, check = in_order[min(at, len(in_order) - 1)]
            given.append(each if check is None else _plain(check, name, each, shown))
        for name, each in named.items():
            check = by_name.get(name, more)
            if check is not None:
                named[name] = _plain(check, name, each, shown)
        carry_out = getattr(type(arguments[0]), "_carry_out", None) if method else None
        # A generator goes on after this: what happens inside it is carried out separately.
        if carry_out is None or own.__name__ == "__init__" or generates:
            return call(*given, **named)
        return carry_out(arguments[0], own.__name__, lambda: call(*given, **named))

    return typing.cast(_Call, looked)


def _plain(check: _Check, name: str, given: Any, shown: str) -> Any:
    try:
        return check(given, 0)
    except _Wrong as wrong:
        wanted = str(wrong)
    except RecursionError:
        wanted = f"nested no deeper than {_DEEPEST}"
    except Exception:  # what is given may raise anything when it is looked at
        wanted = "something that can be looked at"
    raise ArgumentError(f"{name} of {shown} is {_kind_of(given)}; it must be {wanted}.") from None


def _kind_of(given: Any) -> str:
    """A value in a message, with what it is."""
    kind = type(given).__name__
    try:
        return f"{visible(_SHOWN.repr(given))} ({kind})"
    except Exception:  # as above
        return f"a {kind}"


def _check_of(parameter: inspect.Parameter, call: Callable[..., Any]) -> _Check:
    said = parameter.annotation
    if isinstance(said, str) and said.isidentifier() and said not in {**vars(builtins), **call.__globals__}:
        return _of_ours(said)  # a class of ours that the module imports for the type check alone
    return _check(eval(said, call.__globals__) if isinstance(said, str) else said)


def _check(said: Any) -> _Check:
    """What looks at an argument of which a signature says so."""
    origin, parts = typing.get_origin(said), typing.get_args(said)
    if said in _SIMPLE:
        return _SIMPLE[said]
    if origin is Union or origin is types.UnionType:
        return _any_of([_check(each) for each in parts])
    if origin is Literal:
        return _one_of(parts)
    if origin is Sequence or origin is list:
        return _list_of(_check(parts[0]))
    if origin is tuple:
        return _list_of(_check(parts[0])) if parts[1:] == (...,) else _parts(tuple(map(_check, parts)))
    if origin is Mapping or origin is dict:
        return _dictionary(_check(parts[0]), _check(parts[1]))
    if origin is os.PathLike or said is os.PathLike:
        return _path
    if origin is Callable or getattr(origin, "__name__", "") == "Callable":
        return _call
    if isinstance(said, type):
        return _instance(said)
    raise AssertionError(f"nothing looks at arguments of {said}")


def _text(given: Any, depth: int) -> str:
    if not isinstance(given, str):
        raise _Wrong("a text")
    text = str.__str__(given)
    if len(text) > _LONGEST:
        raise _Wrong(f"a text of {_LONGEST:,} characters or fewer")
    if not text.isascii():
        try:
            text.encode()
        except UnicodeEncodeError:
            raise _Wrong("a valid Unicode text, without lone surrogates") from None
    return text


def _truth(given: Any, depth: int) -> bool:
    if isinstance(given, bool) or (type(given).__name__ == "bool" and type(given).__module__ == "numpy"):
        return bool(given)
    raise _Wrong("True or False")


def _whole(given: Any, depth: int) -> int:
    if isinstance(given, numbers.Integral) and not isinstance(given, bool):
        number = int(given)
        if number.bit_length() > _WIDEST:
            raise _Wrong("a number of fewer digits")
        return number
    raise _Wrong("a whole number")


def _number(given: Any, depth: int) -> Any:
    if isinstance(given, Decimal):
        if not given.is_finite():
            raise _Wrong("a finite number")
        if abs(given.adjusted()) > _WIDEST // 4:
            raise _Wrong("a number of fewer digits")
        return given
    if isinstance(given, numbers.Integral) and not isinstance(given, bool):
        return _whole(given, depth)
    if isinstance(given, numbers.Real) and not isinstance(given, bool):
        return float(given)
    raise _Wrong("a number")


def _day(given: Any, depth: int) -> date:
    if isinstance(given, date) and not isinstance(given, datetime):
        return given
    raise _Wrong("a date")


def _nothing(given: Any, depth: int) -> None:
    if given is not None:
        raise _Wrong("None")


def _path(given: Any, depth: int) -> Any:
    if not isinstance(given, os.PathLike):
        raise _Wrong("a path")
    if not isinstance(os.fspath(given), str):
        raise _Wrong("a path of characters")
    return given


def _call(given: Any, depth: int) -> Any:
    if not callable(given):
        raise _Wrong("a function")
    return given


def _anything(given: Any, depth: int) -> Any:
    """An object of any kind: a frame, say. A text is a text."""
    if isinstance(given, os.PathLike):
        return Path(_text(os.fspath(given), depth))
    return _text(given, depth) if isinstance(given, str) else given


def _value(given: Any, depth: int) -> Any:
    """A plain value: of data, of a file, or something of our own."""
    if depth > _DEEPEST:
        raise _Wrong(f"nested no deeper than {_DEEPEST}")
    if isinstance(given, date) and given != given:
        raise _Wrong("a date")
    if given is None or isinstance(given, bool | date):
        return given
    if isinstance(given, Decimal):
        return _number(given, depth)
    if isinstance(given, str):
        return _text(given, depth)
    if isinstance(given, os.PathLike):
        return _path(given, depth)
    if isinstance(given, numbers.Real):
        return _number(given, depth)
    if isinstance(given, Mapping):
        return {_value(key, depth + 1): _value(each, depth + 1) for key, each in given.items()}
    if isinstance(given, list | tuple):
        items = [_value(each, depth + 1) for each in given]
        return items if isinstance(given, list) else tuple(items)
    home = type(given).__module__.partition(".")[0]
    if home == "numpy" and getattr(given, "shape", None) == ():
        return _value(given.item(), depth + 1)
    if home == "relatum":
        return given
    raise _Wrong("a text, a number, a date, or a list or dictionary of such")


def _any_of(checks: Sequence[_Check]) -> _Check:
    def look(given: Any, depth: int) -> Any:
        wanted = []
        for check in checks:
            try:
                return check(given, depth)
            except _Wrong as wrong:
                wanted.append(str(wrong))
        # The closest match explains best what is wrong.
        raise _Wrong(" or ".join(dict.fromkeys(wanted)))

    return look


def _one_of(values: tuple[Any, ...]) -> _Check:
    def look(given: Any, depth: int) -> Any:
        for value in values:
            if isinstance(given, type(value)) and given == value:
                return value
        raise _Wrong(" or ".join(map(repr, values)))

    return look


def _list_of(check: _Check) -> _Check:
    def look(given: Any, depth: int) -> Any:
        if depth > _DEEPEST:
            raise _Wrong(f"nested no deeper than {_DEEPEST}")
        if not isinstance(given, Sequence) or isinstance(given, str | bytes | bytearray | memoryview):
            raise _Wrong(f"a list{_of(check)}")
        try:
            return [check(each, depth + 1) for each in list(given)]
        except _Wrong as wrong:
            raise _Wrong(f"a list in which each item is {wrong}") from None

    return look


def _parts(checks: tuple[_Check, ...]) -> _Check:
    def look(given: Any, depth: int) -> Any:
        if not isinstance(given, list | tuple) or len(given) != len(checks):
            raise _Wrong(f"{len(checks)} values")
        return tuple(check(each, depth + 1) for check, each in zip(checks, given, strict=True))

    return look


def _dictionary(key: _Check, value: _Check) -> _Check:
    def look(given: Any, depth: int) -> Any:
        if depth > _DEEPEST:
            raise _Wrong(f"nested no deeper than {_DEEPEST}")
        if not isinstance(given, Mapping):
            raise _Wrong("a dictionary")
        return {key(name, depth + 1): value(each, depth + 1) for name, each in given.items()}

    return look


def _instance(cls: type) -> _Check:
    def look(given: Any, depth: int) -> Any:
        if not isinstance(given, cls):
            raise _Wrong(f"a {cls.__name__}")
        return given

    return look


def _of_ours(name: str) -> _Check:
    def look(given: Any, depth: int) -> Any:
        if all(each.__name__ != name or each.__module__.split(".")[0] != __package__ for each in type(given).__mro__):
            raise _Wrong(f"a {name}")
        return given

    return look


def _of(check: _Check) -> str:
    return " of texts" if check is _text else ""


_SIMPLE: dict[Any, _Check] = {
    str: _text,
    bool: _truth,
    int: _whole,
    float: _number,
    date: _day,
    None: _nothing,
    type(None): _nothing,
    object: _anything,
    Any: _value,
    inspect.Parameter.empty: _anything,
}
