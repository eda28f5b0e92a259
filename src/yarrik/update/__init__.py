"""Starting a board from the network: what of a product is offered, over TFTP and HTTP."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
