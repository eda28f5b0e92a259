"""What is drawn of what is known: graphs as text, DOT and figure."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
