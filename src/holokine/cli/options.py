"""Options of commands, taken from the signatures of the Python calls that they stand for, with their docs as help."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable
from functools import cache
from typing import Any, Literal, get_args

import click

__all__ = ["takes"]


def takes(call: Callable[..., Any], *names: str, **changes: dict[str, Any]) -> Callable[[Any], Any]:
    """Give a command options of the call's parameters of these names; `changes` overrides what click is told of one.

    Raises
    ------
    KeyError
        A name that is no parameter of the call, or has no line in its docs.
    """

    def add(command: Any) -> Any:
        own, told = inspect.signature(call).parameters, _told(call)
        for name in reversed(names):
            keys: dict[str, Any] = {"help": told.get(name, ""), **_kind(own[name]), **changes.get(name, {})}
            if not keys["help"]:
                raise KeyError(f"{call.__qualname__}: {name} has no line in the docs")
            command = click.option(f"--{name.replace('_', '-')}", name, **keys)(command)
        return command

    return add


def _kind(parameter: inspect.Parameter) -> dict[str, Any]:
    """What click is to know: a flag, a choice, a number, a path, or words; with the default where there is one."""
    text, default = str(parameter.annotation), parameter.default
    known = default not in (None, inspect.Parameter.empty, (), "") and default is not False
    shown: dict[str, Any] = {"default": default, "show_default": True} if known else {"default": None}
    if text == "bool":
        return {"is_flag": True}
    if text.startswith("Literal["):
        return {**shown, "type": click.Choice(get_args(eval(text, {"Literal": Literal})))}
    if text.startswith(("Sequence[", "Mapping[")):
        return {"multiple": True}
    if text.startswith("int"):
        return {**shown, "type": click.IntRange(min=1), "metavar": "N"}
    if text == "float":
        return {**shown, "type": float}
    return shown


@cache
def _told(call: Callable[..., Any]) -> dict[str, str]:
    """The first sentence that a call's docs say of each parameter."""
    found: dict[str, str] = {}
    inside, names = False, list[str]()
    for line in (inspect.getdoc(call) or "").splitlines():
        if line.startswith("---"):
            continue
        if line and not line.startswith(" "):
            if line in ("Parameters", "Raises", "Returns", "Notes", "Examples"):
                inside, names = line == "Parameters", []
            elif inside:
                names = [n.strip() for n in line.split(" : ")[0].split(",")]
                found |= dict.fromkeys(names, "")
        elif inside and line.strip():
            for name in names:
                found[name] = f"{found[name]} {line.strip()}".strip()
    return {name: _sentence(text) for name, text in found.items()}


def _sentence(text: str) -> str:
    plain = text.replace("``", "'").replace("`", "")
    return re.split(r"(?<=[a-z0-9)%'])\.\s", plain, maxsplit=1)[0].rstrip(".") + "."
