"""Long lists of words, written as running text."""

from __future__ import annotations


def words(text: str) -> list[str]:
    """The words of a text."""
    return text.split()
