"""Licence expressions, held against SPDX (annex D of the specification, version 2.3, and its list of licences)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache
from typing import Any

from yarrik.errors import listed, nearest


@cache
def _spdx() -> Any:
    from license_expression import get_spdx_licensing  # takes a tenth of a second, so only where it is asked for

    return get_spdx_licensing()


def licence_fault(text: str) -> tuple[str, str] | None:
    """What is wrong with a licence expression, and what to do; None when it is one."""
    from license_expression import ExpressionError

    hint = "an SPDX expression, like `MIT` or `GPL-2.0-only OR BSD-3-Clause`; for a text of your own `LicenseRef-NAME`"
    try:
        keys = [str(key) for key in _spdx().unknown_license_keys(text)]
    except (ExpressionError, ValueError, AttributeError, TypeError):
        return f"`{text}` is not a licence expression", hint
    unknown = [key for key in keys if not key.startswith(("LicenseRef-", "DocumentRef-"))]
    if not text.strip() or unknown:
        family = sorted(one for one in map(str, _spdx().known_symbols) if unknown and re.fullmatch(
            rf"{re.escape(unknown[0])}-[\d.]+(?:-Clause|-only|-or-later)?", one, re.I))  # fmt: skip
        if family:
            return f"`{unknown[0]}` is a family of licences, not one that SPDX lists", "say which: " + listed(family[:6], "or")
        near = nearest(unknown[0], _spdx().known_symbols) if unknown else None
        return (
            f"`{unknown[0] if unknown else text}` is not a licence that SPDX lists",
            f"did you mean `{near}`?" if near else hint,
        )
    return None


def joined(expressions: Iterable[str]) -> str:
    """One expression that asks for all of several sound ones, without what is said twice."""
    whole = _spdx().parse(" AND ".join(f"({text})" for text in expressions))
    return str(whole.simplify())
