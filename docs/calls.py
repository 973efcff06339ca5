"""For the reference of calls: a class attribute that is another module's function is shown as the method it is."""

from __future__ import annotations

from typing import Any

import griffe


class Methods(griffe.Extension):
    """Show ``pivot = asking.pivot`` in a class as a method, with the function's docstring."""

    def on_package(self, *, pkg: griffe.Module, **_: Any) -> None:
        """Put a method in the place of each such attribute."""
        if pkg.name != "relatum":
            return
        model = pkg["face.model.Model"]
        for name, member in list(model.members.items()):
            if isinstance(member, griffe.Attribute) and isinstance(member.value, griffe.ExprAttribute):
                model.set_member(name, method(pkg[member.value.canonical_path.removeprefix("relatum.")], member))


def method(function: griffe.Function, member: griffe.Attribute) -> griffe.Function:
    """A function as a method: without its first parameter, at the place of the attribute."""
    _, *rest = function.parameters
    made = griffe.Function(
        member.name,
        lineno=member.lineno,
        parameters=griffe.Parameters(*rest),
        returns=function.returns,
        docstring=function.docstring,
    )
    made.overloads = [method(each, member) for each in function.overloads or ()] or None
    return made
