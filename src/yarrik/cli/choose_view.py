"""The view of `yarrik choose`. The keyboard does everything; the focus stays in the search line.

The library writes to the terminal by itself, past the stream that shows control characters instead of obeying them: so each
text of a definition is escaped here."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar, cast

from rich.text import Text
from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from yarrik.cli.terminal import escaped, one_line
from yarrik.errors import Trouble, YarrikError
from yarrik.run import ChoicePage, Choosing, Effect
from yarrik.units import counted, shown_size

_PAGES = ("board", "profile", "packages", "options", "save")
_MARKS = {"on": "[x]", "along": "[+]", "off": "[ ]"}
#: Names in a list of what a choice brings.
_MOST = 8


class ChooseApp(App[str]):
    """Pages of things to choose, a search line, what the solver says, and the difference at the end. The result is what was
    done, in words; none when nothing was."""

    CSS = """
    Screen { background: $background; }
    #head, #pages, #keys { height: 1; padding: 0 1; }
    #keys { color: $text-muted; }
    #search { border: none; height: 1; padding: 0 1; background: $panel; }
    #list { border: none; height: 1fr; padding: 0; scrollbar-size-vertical: 1; }
    #list > .option-list--option-highlighted { background: #ffffff; color: #000000; text-style: bold; }
    #detail { height: 5; padding: 0 1; border-top: solid $panel; }
    #difference { display: none; height: 1fr; padding: 0 1; }
    #difference.shown { display: block; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("down", "move(1)", priority=True),
        Binding("up", "move(-1)", priority=True),
        Binding("pagedown", "move(10)", priority=True),
        Binding("pageup", "move(-10)", priority=True),
        Binding("enter", "choose", priority=True),
        Binding("tab", "turn(1)", priority=True),
        Binding("shift+tab", "turn(-1)", priority=True),
        Binding("ctrl+z", "undo", priority=True),
        Binding("escape", "leave", priority=True),
        Binding("ctrl+c", "leave", priority=True),
    ]
    ENABLE_COMMAND_PALETTE = False

    def __init__(self, choosing: Choosing) -> None:
        super().__init__()
        self.choosing = choosing
        self.page = "packages"
        self.shown: list[str] = []
        self._filled_for = ""
        #: Leaving with changes has to be asked for twice.
        self.leaving = False

    def compose(self) -> ComposeResult:
        """The parts, from top to bottom."""
        yield Static(id="head")
        yield Static(id="pages")
        yield Input(placeholder="type to search", id="search")
        yield OptionList(id="list")
        yield VerticalScroll(Static(id="lines"), id="difference")
        yield Static(id="detail")
        yield Static("Enter chooses  Tab next page  Ctrl-Z undo  Esc leave", id="keys")

    def on_mount(self) -> None:
        """The first page."""
        self._show_page()

    def on_input_changed(self) -> None:
        """The list follows what is typed."""
        self._fill()

    def on_option_list_option_highlighted(self) -> None:
        """The solver is asked about what is highlighted."""
        self._show_detail()

    # Keys

    def _after_typing(self, do: Callable[[], None]) -> None:
        """Letters go to the search line's own queue: what a key does that came after them has to wait until they are in."""
        self.query_one("#search", Input).call_later(do)

    def action_move(self, by: int) -> None:
        """Moves the highlight; on the last page, the text."""
        self._after_typing(lambda: self._move(by))

    def _move(self, by: int) -> None:
        if self.page == "save":
            self.query_one("#difference", VerticalScroll).scroll_relative(y=by, animate=False)
            return
        known = self._list
        if known.option_count:
            at = known.highlighted if known.highlighted is not None else -1
            known.highlighted = max(0, min(known.option_count - 1, at + by))

    def action_turn(self, by: int) -> None:
        """The next page, or the one before."""
        self._after_typing(lambda: self._turn(by))

    def _turn(self, by: int) -> None:
        self.page = _PAGES[(_PAGES.index(self.page) + by) % len(_PAGES)]
        self._show_page()

    def action_choose(self) -> None:
        """Chooses what is highlighted; on the last page, saves."""
        self._after_typing(self._choose)

    def _choose(self) -> None:
        self.leaving = False
        if self.page == "save":
            self._save()
            return
        if self._filled_for != self.query_one("#search", Input).value:
            self._fill()  # Enter may come before the list has followed what was typed
        name = self._highlighted
        if name is not None:
            self.choosing.choose(cast("ChoicePage", self.page), name)
            self._fill(keep=name)
            self._show_head()

    def action_undo(self) -> None:
        """Takes the last change back."""
        self.leaving = False
        if not self.choosing.undo():
            self._say("there is nothing to take back")
            return
        self._show_page()

    def action_leave(self) -> None:
        """Ends without saving; with changes it has to be asked for twice."""
        if self.choosing.difference() and not self.leaving:
            self.leaving = True
            self._say("Your changes are not saved. Escape again leaves without them; Tab leads to the page that saves.")
            return
        self.exit(None)

    def _save(self) -> None:
        changes = self.choosing.difference()
        if not changes:
            self.exit(None)
            return
        try:
            self.choosing.save()
        except YarrikError as error:
            self._say(_words(error.troubles))
            return
        added = sum(line.startswith("+") for line in changes[2:])
        removed = sum(line.startswith("-") for line in changes[2:])
        self.exit(f"saved: {counted(added, 'line')} added, {removed} removed in {changes[0].removeprefix('--- ').strip()}")

    # Showing

    @property
    def _list(self) -> OptionList:
        return self.query_one("#list", OptionList)

    @property
    def _highlighted(self) -> str | None:
        at = self._list.highlighted
        return self.shown[at] if at is not None and at < len(self.shown) else None

    def _say(self, text: str) -> None:
        self.query_one("#detail", Static).update(Text(escaped(text)))

    def _show_page(self) -> None:
        saving = self.page == "save"
        self.query_one("#search", Input).display = not saving
        self._list.display = not saving
        self.query_one("#difference").set_class(saving, "shown")
        self.query_one("#pages", Static).update(
            Text(" ").join(Text(f" {name} ", style="reverse" if name == self.page else "") for name in _PAGES)
        )
        self._show_head()
        if saving:
            self._show_difference()
            return
        search = self.query_one("#search", Input)
        search.focus()
        if search.value:
            search.value = ""  # fills the list too
        self._fill()

    def _show_head(self) -> None:
        now = self.choosing.verdict()
        head = Text(self.choosing.product, style="bold")
        if now.troubles:
            head.append(f"  cannot be: {one_line(now.troubles[0].what)}", style="red")
        elif now.composition is not None:
            board, profile = one_line(now.composition.board.name), one_line(now.composition.profile.name)
            size = f", {shown_size(now.weight)}" if now.weight else ""
            size += f" and {now.unknown} not built yet" if now.unknown and now.weight else ""
            head.append(f"  {board}, {profile}, {counted(len(now.packages), 'package')}{size}", style="green")
        self.query_one("#head", Static).update(head)

    def _fill(self, keep: str | None = None) -> None:
        self._filled_for = self.query_one("#search", Input).value
        words = self._filled_for.casefold().split()
        if self.page == "save":  # what was typed on the page before may be told of only now
            return
        items = self.choosing.items(cast("ChoicePage", self.page))
        found = [one for one in items if all(word in f"{one.name} {one.what}".casefold() for word in words)]
        first = words[0] if words else ""
        # Names that begin with what is typed, then those that hold it, then those that are described so.
        found.sort(key=lambda one: (not one.name.casefold().startswith(first), first not in one.name.casefold(), one.name))
        width = max((len(one.name) for one in found), default=0)
        self.shown = [one.name for one in found]
        rows = []
        for one in found:
            size = f"{shown_size(one.weight):>10}" if one.weight is not None else " " * 10
            style = {"on": "bold", "along": "", "off": "dim"}[one.mark]
            line = f"{_MARKS[one.mark]} {one_line(one.name):<{width}}  {one_line(one.what)}"
            room = max(20, self.size.width - (13 if self.page == "packages" else 2))
            cut = line if len(line) <= room else line[: room - 1] + "…"
            rows.append(Option(Text(f"{cut:<{room}}{size if self.page == 'packages' else ''}", style=style, no_wrap=True)))
        known = self._list
        known.clear_options()
        known.add_options(rows)
        if rows:
            known.highlighted = self.shown.index(keep) if keep in self.shown else 0
        else:
            self._say("nothing here is called or described so")
        self._show_detail()

    def _show_detail(self) -> None:
        name = self._highlighted
        if name is None or self.page == "save":
            return
        self._say(_effect_words(name, self.choosing.effect(cast("ChoicePage", self.page), name)))

    def _show_difference(self) -> None:
        lines = self.choosing.difference()
        text = Text()
        for line in lines or ["Nothing is changed yet."]:
            style = "green" if line.startswith("+") else "red" if line.startswith("-") else ""
            text.append(one_line(line) + "\n", style=style)
        self.query_one("#lines", Static).update(text)
        now = self.choosing.verdict()
        if now.troubles:
            self._say(f"It would not resolve: {_words(now.troubles)}")
        else:
            self._say("Enter saves this change; Tab goes back to the pages." if lines else "Escape leaves.")


def _words(troubles: tuple[Trouble, ...]) -> str:
    first = troubles[0]
    why = f"\n{first.why.splitlines()[0]}" if first.why else ""
    return one_line(first.what) + why + (f"\nnext: {one_line(first.remedy)}" if first.remedy else "")


def _effect_words(name: str, effect: Effect) -> str:
    if effect.troubles:
        return f"{name} does not go: {_words(effect.troubles)}"
    lines = []
    for word, names in (("brings", effect.brings), ("drops", effect.drops)):
        others = [one for one in names if one != name]
        if others:
            more = f" and {len(others) - _MOST} more" if len(others) > _MOST else ""
            lines.append(f"{word} {', '.join(others[:_MOST])}{more}")
    if effect.weight:
        lines.append(f"{'+' if effect.weight > 0 else '-'}{shown_size(abs(effect.weight))} in the image")
    if effect.unknown:
        lines.append(f"{counted(effect.unknown, 'package')} not built yet: what they weigh is not known")
    return "\n".join(lines) or "brings nothing else, and drops nothing"
