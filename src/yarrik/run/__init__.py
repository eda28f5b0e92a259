"""Running: the scheduler, the sandbox, what each action does, and a session that ties a workspace to a build."""

from yarrik.front_door import open_front_door

__getattr__, __dir__, __all__ = open_front_door(__name__, __file__)
