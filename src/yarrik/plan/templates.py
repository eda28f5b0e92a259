"""Templates of an image's files: names are filled in, and one that there is not is an error with its line."""

from __future__ import annotations

from collections.abc import Mapping
from types import TracebackType

from yarrik.errors import Unfit

_NAME = "<template>"
#: No configuration file is larger.
_LARGEST = 4 << 20


class TemplateUnfit(Unfit):
    """A template that cannot be filled in; `line` counts from one, or is 0 when it is not known."""

    def __init__(self, what: str, line: int) -> None:
        super().__init__(what)
        self.line = line


def filled(text: str, names: Mapping[str, object]) -> str:
    """The text with everything filled in. Templates may come with a shelf of others: they see these names and nothing else.

    Raises TemplateUnfit."""
    import jinja2
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    class Missing(jinja2.StrictUndefined):
        @property
        def _undefined_message(self) -> str:
            return f"there is no `{self._undefined_name}`"

    environment = ImmutableSandboxedEnvironment(
        undefined=Missing, keep_trailing_newline=True, autoescape=False, trim_blocks=True, lstrip_blocks=True
    )
    environment.globals.clear()
    for filter_ in ("random", "pprint"):  # not the same each time
        environment.filters.pop(filter_)
    pieces, size = [], 0
    try:
        code = environment.compile(text, _NAME, _NAME)
        template = jinja2.Template.from_code(environment, code, {})
        for piece in template.generate(**names):
            size += len(piece)
            if size > _LARGEST:
                raise TemplateUnfit("the template fills more than 4 MiB", 0)
            pieces.append(piece)
    except jinja2.TemplateSyntaxError as error:
        raise TemplateUnfit(str(error.message), error.lineno) from error
    except TemplateUnfit:
        raise
    except (jinja2.TemplateError, ArithmeticError, TypeError, ValueError, LookupError, RecursionError, AttributeError) as error:
        raise TemplateUnfit(str(error), _line(error.__traceback__)) from error
    return "".join(pieces)


def _line(trace: TracebackType | None) -> int:
    """The line of the template on which an error arose."""
    line = 0
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == _NAME:
            line = trace.tb_lineno
        trace = trace.tb_next
    return line
