"""The root filesystem as a tree of nodes with owners, modes, links and device nodes; nobody needs to be root for it.

`assemble` puts one together from packages; it stands apart, since it knows definitions and the rest is for any folder."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
