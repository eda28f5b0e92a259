"""Network interfaces of an image, and the files that set them up, in several forms."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
