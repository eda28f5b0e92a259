"""Starting a board from the network: what of a product is offered, over TFTP and HTTP."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
