"""Firmware's text settings: `key=value` lines in a file of the boot partition, which people edit as well.

Whatever is not a setting (comments, sections, blank lines) stays where it is when a value changes.
"""

from __future__ import annotations

from collections.abc import Mapping

from yarrik.errors import Unfit
from yarrik.patterns import lazy_pattern

_LINE = lazy_pattern(r"(?P<before>\s*)(?P<key>[^\s=#\[][^=#]*?)(?P<equals>\s*=\s*)(?P<value>.*?)(?P<after>\s*)\Z")
#: What only boot menus and boot entries have.
_MENU = lazy_pattern(r"(?im)^[ \t]*(?:label|title|menu title|default)[ \t]+\S.*$")
_KEY = lazy_pattern(r"[A-Za-z0-9_.,:-]+\Z")


class SettingUnfit(Unfit):
    """A key or value that the file cannot hold; the message says why."""


def read_settings(text: str) -> dict[str, str]:
    """All settings; a key that stands twice keeps the last value, as for readers."""
    found = {}
    for line in text.splitlines():
        if match := _LINE.match(line):
            found[match["key"].strip()] = match["value"]
    return found


def change_settings(text: str, changes: Mapping[str, str | None]) -> str:
    """The text with values changed in place; new keys go to the end, None takes a key away. Raises SettingUnfit."""
    for key, value in changes.items():
        if _KEY.match(key) is None:
            raise SettingUnfit(f"`{key}` is not a key: letters, digits and _ . , : -")
        if value is not None and any(ord(sign) < 32 for sign in value):
            raise SettingUnfit(f"the value of `{key}` has a sign that no line can hold")
    if (menu := _MENU.search(text)) is not None:
        raise SettingUnfit(
            f"the file is a boot menu (`{menu[0].strip()}`), and its lines are no KEY=VALUE; edit the board's `boot`"
        )
    left = dict(changes)
    lines: list[str] = []
    for line in text.splitlines():
        match = _LINE.match(line)
        key = match["key"].strip() if match else ""
        if match is None or key not in changes:
            lines.append(line)
            continue
        value = changes[key]
        left.pop(key, None)
        if value is not None:
            lines.append(f"{match['before']}{match['key']}{match['equals']}{value}{match['after']}")
    lines += [f"{key}={value}" for key, value in left.items() if value is not None]
    return "".join(line + "\n" for line in lines)
