"""Services of an image: what they are, their order, and the files that an init reads them from, in several forms."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
