"""Running: the scheduler, the sandbox, what each action does, and a session that ties a workspace to a build."""

from yarrik.run.events import Listener, StepEnded, StepStarted, silent
from yarrik.run.execute import StepReport
from yarrik.run.session import BuildReport, Session

__all__ = ["BuildReport", "Listener", "Session", "StepEnded", "StepReport", "StepStarted", "silent"]
