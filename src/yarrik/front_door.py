"""What a room offers to the others: the names of its `__init__.pyi`, each of which is loaded when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import lazy_loader


def open_front_door(room: str, file: str) -> tuple[Callable[[str], object], Callable[[], list[str]], list[str]]:
    """`__getattr__`, `__dir__` and `__all__` of the room whose `__init__` is in this file.

    Each line of the stub beside it is `from .module import name as name`: parsing it as a program takes three times as long."""
    names: dict[str, list[str]] = {}
    for line in Path(file).with_suffix(".pyi").read_text(encoding="utf-8").splitlines():
        _, module, _, name, *_ = line.split()
        names.setdefault(module.removeprefix("."), []).append(name)
    getter, lister, every = lazy_loader.attach(room, submod_attrs=names)
    return getter, lister, every
