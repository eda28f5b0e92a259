"""The root filesystem as a tree of nodes with owners, modes, links and device nodes; nobody needs to be root for it.

`assemble` puts one together from packages; it stands apart, since it knows definitions and the rest is for any folder."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
