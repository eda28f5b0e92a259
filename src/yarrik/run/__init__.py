"""Running: the scheduler, the sandbox, what each action does, and a session that ties a workspace to a build."""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
