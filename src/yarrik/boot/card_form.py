"""Settings on a card that a person may change: which there are, which values they may have, and the file that is edited.

The image carries the form in /etc/first-boot, for the board and for `yarrik boot set`."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

import msgspec

from yarrik.errors import Unfit
from yarrik.model import CardSetting, CardSettings

#: Where the board reads what it does at its first start, and which settings there are.
FIRST_BOOT_FILE = "/etc/first-boot"
#: What the board's program has room for (`first-boot.h`, `first-boot.c`), in bytes where it is about texts.
LONGEST_VALUE, MOST_SETTINGS, MOST_CHOICES, MOST_LETTERS, LONGEST_LINE = 256, 64, 32, 159, 1100


class FormUnfit(Unfit):
    """A form of settings that cannot be; the message says why."""


def letters_of(text: str) -> str:
    """All characters that `letters` means: `a-z` is a range. Raises FormUnfit."""
    found: dict[str, None] = {}
    for match in re.finditer(r"(.)-(.)|(.)", text, re.DOTALL):
        first, last = match[1] or match[3], match[2] or match[3]
        if not (" " <= first <= last <= "~"):
            raise FormUnfit(f"`{match[0]}` is no range of characters: plain ASCII, from the lower one to the higher one")
        found |= dict.fromkeys(map(chr, range(ord(first), ord(last) + 1)))
    # A hyphen at the end is no range when this is read once more.
    signs = "".join(sorted(set(found) - {" ", "-"})) + ("-" if "-" in found else "")
    if " " not in found:
        return signs
    if not signs:
        raise FormUnfit("a blank alone is no set of characters")
    return f"{signs[0]} {signs}"  # readers take blanks from the ends of a line


def shown_letters(text: str) -> str:
    """The same, as short as a person would write it."""
    parts: list[str] = []
    for sign in dict.fromkeys(letters_of(text)):
        if parts and sign != "-" and ord(sign) == ord(parts[-1][-1]) + 1:
            parts[-1] += sign
        else:
            parts.append(sign)
    return "".join(f"{part[0]}-{part[-1]}" if len(part) > 3 else part for part in parts)


def unfit(setting: CardSetting, value: str) -> str:
    """Why a value cannot be, like the board sees it; empty when it can."""
    if len(value.encode()) > LONGEST_VALUE:
        return "it is too long"
    if any(ord(sign) < 32 or ord(sign) == 127 for sign in value):
        return "it has a control character"
    if value != value.strip(" \t\r"):
        return "it has a blank at one of its ends"
    return _CHECKS[setting.kind](setting, value)


def _number(setting: CardSetting, value: str) -> str:
    if re.fullmatch(r"-?[0-9]+", value, re.ASCII) is None:
        return "it is not a whole number"
    least = -(2**63) if setting.least is None else setting.least
    most = 2**63 - 1 if setting.most is None else setting.most
    return "" if least <= int(value) <= most else f"it is not between {least} and {most}"


def _address(_setting: CardSetting, value: str) -> str:
    import socket  # few boards are set up so

    for family in (socket.AF_INET, socket.AF_INET6):
        try:
            socket.inet_pton(family, value)
        except (OSError, ValueError):
            continue
        return ""
    return "it is not an IP address"


def _text(setting: CardSetting, value: str) -> str:
    if setting.longest is not None and len(value) > setting.longest:
        return f"it has more than {setting.longest} characters"
    wrong = [sign for sign in value if setting.letters and sign not in letters_of(setting.letters)]
    return f"`{wrong[0]}` is none of its letters, {shown_letters(setting.letters)}" if wrong else ""


_CHECKS: Mapping[str, Callable[[CardSetting, str], str]] = {
    "number": _number,
    "address": _address,
    "text": _text,
    "switch": lambda _setting, value: "" if value in ("yes", "no") else "it is neither yes nor no",
    "choice": lambda setting, value: "" if value in setting.one_of else f"it is none of {', '.join(setting.one_of)}",
}


def form_lines(card: CardSettings, path: str) -> Iterator[str]:
    """The lines of /etc/first-boot about settings; `path` is where the board sees the file."""
    yield f"card = {path}"
    for one in card.setting:
        yield f"setting = {one.name} {one.kind}"
        yield f"usual = {one.usual}"
        if one.letters:
            yield f"letters = {letters_of(one.letters)}"
        if one.longest is not None:
            yield f"longest = {one.longest}"
        if one.kind == "number" and (one.least is not None or one.most is not None):
            least = -(2**63) if one.least is None else one.least
            yield f"range = {least} {2**63 - 1 if one.most is None else one.most}"
        for word in one.one_of:
            yield f"choice = {word}"
        if one.secret:
            yield "secret = yes"


class FoundForm(msgspec.Struct, frozen=True):
    """The form in an image: the name of the file that is edited, and the settings by name."""

    file: str
    settings: dict[str, CardSetting]


def read_form(text: str) -> FoundForm | None:
    """The form of settings in /etc/first-boot; None when there is none. Lines that say nothing of it are left out."""
    file = ""
    found: list[dict[str, object]] = []
    for line in text.splitlines():
        key, equals, value = (part.strip(" \t\r") for part in line.partition("="))
        if not equals:
            continue
        if key == "card":
            file = value.rpartition("/")[2]
        elif key == "setting":
            name, _, kind = value.partition(" ")
            found.append({"name": name, "kind": kind.strip()})
        elif found and key in ("usual", "letters"):
            found[-1][key] = value
        elif found and key == "longest" and value.isdecimal():
            found[-1][key] = int(value)
        elif found and key == "range" and (match := re.fullmatch(r"(-?\d{1,19}) (-?\d{1,19})", value, re.ASCII)):
            found[-1] |= {"least": int(match[1]), "most": int(match[2])}
        elif found and key == "choice":
            found[-1]["one_of"] = (*found[-1].get("one_of", ()), value)  # type: ignore[misc]
        elif found and key == "secret":
            found[-1][key] = value == "yes"
        elif key == "action":
            break
    settings = [CardSetting(**one) for one in found if one["kind"] in _CHECKS]  # type: ignore[arg-type]
    return FoundForm(file, {one.name: one for one in settings}) if file else None


def card_text(card: CardSettings, product: str) -> str:
    """The file as it is on a new card: each setting with its value, and a comment that says what may be there."""
    lines = [
        f"# Settings of {product}: lines KEY = VALUE, which the board takes in when it starts.",
        "# When one of them does not fit, none is taken in, and the board says which line it is.",
    ]
    for one in card.setting:
        comment = ". ".join(part for part in (one.summary, allowed_values(one)) if part)
        lines += ["", *([f"# {comment}"] if comment else []), f"{one.name} = {one.usual}"]
    return "".join(line + "\n" for line in lines)


def allowed_values(setting: CardSetting) -> str:
    """Which values a setting may have, in words."""
    if setting.kind == "number":
        ends = (setting.least, setting.most)
        low, high = (str(end) if end is not None else "" for end in ends)
        bounds = f" from {low} to {high}" if low and high else f" from {low}" if low else f" up to {high}" if high else ""
        return f"A whole number{bounds}"
    if setting.kind == "choice":
        return "One of " + ", ".join(setting.one_of)
    if setting.kind == "switch":
        return "yes or no"
    if setting.kind == "address":
        return "An IP address"
    parts = [f"at most {setting.longest} characters"] if setting.longest is not None else []
    parts += [f"all of them {shown_letters(setting.letters)}"] if setting.letters else []
    return ("A text, " + ", ".join(parts)) if parts else ""


def form_troubles(settings: Sequence[CardSetting]) -> Iterator[tuple[int, str]]:
    """What cannot be in a form: the setting's index, and a sentence about it."""
    if len(settings) > MOST_SETTINGS:
        yield MOST_SETTINGS, f"there is room for {MOST_SETTINGS} settings"
    for index, one in enumerate(settings):
        said = {"longest": one.longest is not None, "letters": bool(one.letters), "least": one.least is not None,
                "most": one.most is not None, "one-of": bool(one.one_of)}  # fmt: skip
        allowed = {"text": ("longest", "letters"), "number": ("least", "most"), "choice": ("one-of",)}.get(one.kind, ())
        for key in (key for key, yes in said.items() if yes and key not in allowed):
            yield index, f"`{key}` says nothing of a {one.kind}"
        if one.kind == "choice" and not one.one_of:
            yield index, "a choice needs its words in `one-of`"
        if len(one.one_of) > MOST_CHOICES:
            yield index, f"there is room for {MOST_CHOICES} words in `one-of`"
        for word in one.one_of:
            if not word or len(word.encode()) > LONGEST_VALUE or word != word.strip():
                yield index, f"`{word}` is empty, longer than {LONGEST_VALUE} bytes, or has a blank at one of its ends"
        if one.least is not None and one.most is not None and one.least > one.most:
            yield index, "`least` is more than `most`"
        try:
            if len(letters_of(one.letters)) > MOST_LETTERS:
                yield index, f"there is room for {MOST_LETTERS} characters in `letters`"
            why = unfit(one, one.usual)
        except FormUnfit as error:
            yield index, str(error)
            continue
        if why:
            yield index, f"its usual value `{one.usual}` cannot be: {why}"
