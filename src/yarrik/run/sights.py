"""What steps see of this machine: programs with what they load, and the compilers that a plan found."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from yarrik.run.host_view import names_of, remembered_sight, view_of, views_in
from yarrik.run.sandbox import THE_BOARDS

if TYPE_CHECKING:
    from yarrik.cache import Memory, Store
    from yarrik.host import Sight
    from yarrik.run.host_view import View
    from yarrik.run.sandbox import Sees
    from yarrik.toolchain import Toolchain


class Sights(msgspec.Struct):
    """What is seen beside the `toolchains` of each side, as the `machine` memory knows it; views of it are beside the store."""

    store: Store
    machine: Memory
    toolchains: dict[str, Toolchain]
    #: Each sight with the digest of its paths: hundreds of recipes share a few of them.
    _known: dict[tuple[str, tuple[str, ...]], tuple[Sight, str]] = msgspec.field(default_factory=dict)

    def digest(self, side: str, programs: tuple[str, ...]) -> str:
        """A digest of the paths that programs and a side's toolchain need of this machine."""
        return self._sight(side, programs)[1]

    def look(self, sees: Sees) -> View:
        """What a step sees of this machine."""
        side = (
            "board"
            if sees.toolchain == THE_BOARDS
            else next((side for side, toolchain in self.toolchains.items() if toolchain.shown == sees.toolchain), "")
        )
        identity = " ".join(one.identity for _, one in sorted(self.toolchains.items()))
        return view_of(self._sight(side, sees.programs)[0], views_in(self.store), identity)

    def _sight(self, side: str, programs: tuple[str, ...]) -> tuple[Sight, str]:
        key = (side, programs)
        if key not in self._known:
            toolchain = self.toolchains.get(side)
            sight = remembered_sight(programs, toolchain, self.toolchains.get("host"), self.machine)
            self._known[key] = sight, names_of(sight)
        return self._known[key]
