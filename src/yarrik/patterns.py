"""Regular expressions that are compiled when they are first used: a command loads a hundred of them, and uses ten."""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast


class _Lazy:
    def __init__(self, text: Any, flags: int) -> None:
        self._text, self._flags = text, flags

    def __getattr__(self, name: str) -> Any:
        found = getattr(re.compile(self._text, self._flags), name)
        setattr(self, name, found)  # from now on it is found without this
        return found


def lazy_pattern(text: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """What `re.compile` gives, as far as methods and attributes go. `re`'s own functions do not take it."""
    return cast("re.Pattern[AnyStr]", _Lazy(text, flags))
