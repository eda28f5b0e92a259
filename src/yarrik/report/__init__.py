"""What is drawn of what is known: graphs as text, DOT and figure."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
