"""A fault of our own: a short notice, and the whole trace in a file that can be sent along with a report."""

from __future__ import annotations

import hashlib
import platform
import sys
import traceback
from pathlib import Path

from yarrik import __version__
from yarrik.errors import Place, Trouble, YarrikError

#: EX_SOFTWARE of sysexits.h: an internal fault was found.
EXIT_CODE = 70


def fault_trouble(error: Exception) -> YarrikError:
    """The notice for an exception that nothing here expects. The trace goes to a file, once for each different fault."""
    frames = traceback.extract_tb(error.__traceback__)
    here = [frame for frame in frames if "yarrik" in Path(frame.filename).parts] or frames
    where = Place(Path(here[-1].filename), here[-1].lineno) if here else Place()
    text = "".join(traceback.format_exception(error))
    about = f"Yarrik {__version__}, Python {platform.python_version()}, {platform.platform()}"
    file = _written(f"{about}, command {' '.join(sys.argv[1:2])}\n\n{text}")
    return YarrikError(
        Trouble("FAULT", f"Yarrik has a fault: {type(error).__name__}: {str(error)[:200]}", where,
                why="no input should cause this: problems in your files are reported with a code",
                remedy=f"report it, with the trace in {file}" if file else f"report it, with this trace:\n{text}"),
        "work",
    )  # fmt: skip


def _written(text: str) -> Path | None:
    import platformdirs

    file = platformdirs.user_state_path("yarrik") / "faults" / f"{hashlib.sha256(text.encode()).hexdigest()[:12]}.txt"
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8", errors="backslashreplace")
    except OSError:
        return None
    return file
