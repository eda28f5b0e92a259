"""One line of the bench board's story, by itself: who only shows a story loads nothing that tells one."""

from __future__ import annotations

import msgspec


class StoryLine(msgspec.Struct, frozen=True):
    """One line of the story: the stage, what was found there, and whether it was followed or taken for granted."""

    stage: str
    text: str
    followed: bool = True
