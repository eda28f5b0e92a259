"""`yarrik log`, `yarrik show`, `yarrik schema`: reading logs and definitions."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from yarrik.cli import app
from yarrik.cli.options import (
    JsonOption,
    ProductOption,
    SetOption,
    WithOption,
    WorkspaceOption,
    composed,
    names_of,
    opened,
    question_of,
)

if TYPE_CHECKING:
    from yarrik.model import Composition, Definition, Origin, Workspace
    from yarrik.run import Session


@app.command(
    epilog="Examples: [bold]yarrik log libtide[/bold] · [bold]yarrik log --last-failure[/bold] · "
    "[bold]yarrik log stage libtide --product tide-office[/bold]"
)
def log(
    kind: Annotated[
        str | None,
        typer.Argument(help="The step's kind (fetch, build, stage, …); or a recipe alone."),
    ] = None,
    subject: Annotated[list[str] | None, typer.Argument(help="The recipe, or the product.")] = None,
    last_failure: Annotated[bool, typer.Option("--last-failure", help="Of the step that failed last.")] = False,
    follow: Annotated[bool, typer.Option("--follow", help="Goes on as the log grows, until the step has ended.")] = False,
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:
    """Shows the log of a step's last run."""
    from yarrik.cli.view import print_json
    from yarrik.errors import Place, Trouble, YarrikError, suggestion
    from yarrik.run import known_before, log_path

    with opened(workspace) as session:
        # The product's name is all that it takes, and the last build knew it.
        before = known_before(question_of(workspace, product, variants, settings))
        name = before.product if before is not None else composed(session, product, variants, settings).name
        if last_failure:
            step = session.records.last_failure(name)
        elif kind is None:
            raise YarrikError(Trouble("NAME-MISSING", "no step is named", remedy="yarrik log RECIPE, or --last-failure"))
        else:
            words = [*kind.split(), *(subject or [])]  # a name may be given in quotes, as plans show it
            step = " ".join(words if len(words) > 1 else ["build", *words])
        if follow:
            if step not in (before.steps if before is not None else _steps_of(session, product, variants, settings)):
                raise YarrikError(Trouble("STEP-UNKNOWN", f"`{name}` has no step `{step}`",
                                          remedy="yarrik plan --all lists them"))  # fmt: skip
            for piece in session.records.follow(name, step):
                sys.stdout.write(piece)
                sys.stdout.flush()
            return
        text = session.records.log_of(name, step)
    if text is None:
        logs = log_path(session.project.folder, name, step).parent
        known = sorted(file.stem for file in logs.glob("*.log")) if logs.is_dir() else []
        raise YarrikError(
            Trouble("LOG-MISSING", f"there is no log of a step `{step}` of `{name}`", Place(logs),
                    remedy=suggestion(step.replace(" ", "-"), known) if known else "build the product first")
        )  # fmt: skip
    if json:
        print_json({"ok": True, "product": name, "step": step, "log": text})
        return
    sys.stdout.write(text)


def _steps_of(session: Session, product: str | None, variants: list[str] | None, settings: list[str] | None) -> tuple[str, ...]:
    planned = session.planner.planned(composed(session, product, variants, settings))
    return tuple(one.name for one in planned.graph.steps)


@app.command(
    epilog="Examples: [bold]yarrik show kittiwake[/bold] · [bold]yarrik show kittiwake kernel.console[/bold] · "
    "[bold]yarrik show --graph --with display[/bold] · [bold]yarrik show --accounts[/bold] · "
    "[bold]yarrik show --services[/bold]"
)
def show(
    name: Annotated[
        str | None,
        typer.Argument(help="A definition of any kind, or a key of the product like image.hostname.",
                       autocompletion=names_of("board", "profile", "image", "product", "variant", "group", "recipe")),
    ] = None,
    key: Annotated[str | None, typer.Argument(help="Only what lies below this key, with its whole history.")] = None,
    amendments: Annotated[bool, typer.Option("--amendments", help="Lists what shelves change of each other.")] = False,
    graph: Annotated[bool, typer.Option("--graph", help="Shows what leads to what in the product, as a tree.")] = False,
    form: Annotated[str, typer.Option(metavar="FORM", help="Of the graph: `tree` or `dot`.")] = "tree",
    figure: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Draws the graph into a file: .png, .svg or .pdf.")
    ] = None,
    accounts: Annotated[bool, typer.Option("--accounts", help="Shows the users and groups of the product's image.")] = False,
    services: Annotated[bool, typer.Option("--services", help="Shows the services of the product's image, in order.")] = False,
    roles: Annotated[bool, typer.Option("--roles", help="Shows which packages fill each role, and which could.")] = False,
    product: ProductOption = None,
    variants: WithOption = None,
    settings: SetOption = None,
    workspace: WorkspaceOption = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """Shows a definition as it is resolved, each value with the file and line it came from, and what it replaced.

    What takes part in the product is shown as the product has it, with variants and settings."""
    from yarrik.errors import Trouble, YarrikError

    with opened(workspace) as session:
        if graph or figure is not None:
            _show_graph(session, composed(session, product, variants, settings), form, figure, json)
        elif accounts or services or roles:
            from yarrik.cli import inside

            product = product or name  # as in `yarrik build PRODUCT`
            show_it = inside.show_accounts if accounts else inside.show_services if services else inside.show_roles
            show_it(session, composed(session, product, variants, settings), json)
        elif amendments:
            _show_amendments(session.project.workspace, json)
        elif name is None:
            raise YarrikError(Trouble("NAME-MISSING", "nothing is named that could be shown",
                                      remedy="name one, or use --accounts, --services, --roles, --graph"))  # fmt: skip
        else:
            asked = product is not None or bool(variants) or bool(settings)
            composition = _composed_if_possible(session, product, variants, settings, asked)
            name, key = _named(name, key, composition)
            _show_definitions(session, name, key, composition, json)


def _named(name: str, key: str | None, composition: Composition | None) -> tuple[str, str | None]:
    """Definition and key that a name means: `image.hostname` is a key of the product's image, as in --set."""
    from yarrik.model import NAMED

    kind, sign, rest = name.partition(".")
    if key is not None or not sign or composition is None:
        return name, key
    if kind == "recipe":
        recipe, _, below = rest.partition(".")
        return recipe, below or None
    if kind in NAMED or kind == "product":
        definition: Definition[Any] = getattr(composition, kind)
        return definition.name, rest
    return name, key


def _composed_if_possible(
    session: Session, product: str | None, variants: list[str] | None, settings: list[str] | None, asked: bool
) -> Composition | None:
    """The product, if there is one that can be put together: without it, definitions are shown as they stand."""
    from yarrik.errors import YarrikError

    try:
        return composed(session, product, variants, settings)
    except YarrikError:
        if asked:
            raise
        return None


def _show_definitions(session: Session, name: str, key: str | None, composition: Composition | None, json: bool) -> None:
    from yarrik.cli.view import print_json, show_warnings, styled
    from yarrik.errors import Trouble, YarrikError, suggestion
    from yarrik.model import find_key, values_with_origins
    from yarrik.plan import choices

    kinds = session.project.workspace.by_kind
    found: list[tuple[str, Definition[Any], bool]] = []
    for kind, definitions in kinds.items():
        if name in definitions:
            as_composed = _as_composed(session, composition, kind, name)
            found.append((kind, as_composed or definitions[name], as_composed is not None))
    if not found:
        known = {known for definitions in kinds.values() for known in definitions}
        raise YarrikError(
            Trouble("NAME-UNKNOWN", f"nothing in this workspace is called `{name}`", remedy=suggestion(name, known))
        )
    if key is not None:
        having = [one for one in found if _has_key(one[1], key)]
        if not having:
            known = {path for _, definition, _ in found for path, _, _ in values_with_origins(definition.document)}
            raise YarrikError(Trouble("KEY-UNKNOWN", f"`{name}` has no key `{key}`", remedy=suggestion(key, known)))
        found = having
    if json:
        print_json(
            {
                kind: {
                    path: {
                        "value": value,
                        "from": str(origin.place),
                        "replaced": str(origin.replaced.place) if origin.replaced else None,
                        "history": [{"how": one.how, "value": one.value, "from": str(one.place)} for one in origin.history()],
                    }
                    for path, value, origin in values_with_origins(definition.document)
                    if key is None or _below(path, key)
                }
                for kind, definition, _ in found
            }
        )
        return
    for kind, definition, in_product in found:
        whose = (
            f", as the product {composition.name} has it"
            if in_product and composition is not None and kind != "product"
            else ""
        )
        sys.stdout.write(f"{styled(kind, 'dim')} {styled(name, 'bold')}{whose}\n")
        told = find_key(kind, key, choices()) if key is not None else None
        if told is not None:
            sys.stdout.write(f"  {styled(told.text, 'dim')}\n")
        rows = [(path, value, origin) for path, value, origin in values_with_origins(definition.document)
                if key is None or _below(path, key)]  # fmt: skip
        if not rows and key is not None:
            _show_rows(_defaults(definition, key))
        _show_rows(_with_history(rows, whole=key is not None))
        if kind == "product" and in_product and composition is not None and key is None:
            known = {path for path, _, _ in rows}
            asked = [row for row in values_with_origins(composition.wishes[1]) if row[0] not in known]
            if asked:
                sys.stdout.write("asked for by what it names, and by variants and settings\n")
                _show_rows(_with_history(asked, whole=False))
        conditions = list(_conditions(session, composition if in_product else None, kind, name)) if key is None else []
        if conditions:
            sys.stdout.write("conditions\n")
            _show_rows(conditions)
    if composition is not None:
        show_warnings(composition.warnings)


def _as_composed(session: Session, composition: Composition | None, kind: str, name: str) -> Definition[Any] | None:
    """The definition as the product has it, if it takes part in it."""
    from yarrik.model import NAMED

    if composition is None:
        return None
    if kind in NAMED or kind == "product":
        own: Definition[Any] = getattr(composition, kind)
        return own if own.name == name else None
    if kind != "recipe":
        return None
    from yarrik.errors import YarrikError
    from yarrik.resolve import Node

    try:
        answer = session.planner.answer(composition)
    except YarrikError:
        return None
    return next((answer.recipe(node) for node in (Node(name, "board"), Node(name, "host")) if node in answer.versions), None)


def _has_key(definition: Definition[Any], key: str) -> bool:
    from yarrik.model import values_with_origins

    return any(_below(path, key) for path, _, _ in values_with_origins(definition.document)) or bool(_defaults(definition, key))


def _below(path: str, key: str) -> bool:
    return path == key or path.startswith(key + ".")


def _defaults(definition: Definition[Any], key: str) -> list[tuple[str, str, str]]:
    """The value of a key that nobody sets."""
    value: Any = definition.value
    for word in key.split("."):
        value = getattr(value, word.replace("-", "_"), None)
    return [(key, str(value), "default")] if value is not None else []


def _with_history(rows: list[tuple[str, object, Origin]], whole: bool) -> Iterator[tuple[str, str, str]]:
    for path, value, origin in rows:
        origins = list(origin.history())
        changed = any(one.how != "set" for one in origins)
        yield path, _text(value, whole), "" if changed else origin.place.short
        for former in origins if changed else origins[1:]:
            words = _CHANGE_WORDS[former.how] if changed else "over"
            yield "", f"  {words} {_text(former.value, whole)}", former.place.short


_CHANGE_WORDS = {"set": "first", "added to": "added", "taken from": "taken out"}


def _text(value: object, whole: bool) -> str:
    text = ", ".join(str(one) for one in value) if isinstance(value, list) else str(value)
    text = text.lower() if isinstance(value, bool) else text.replace("\n", "⏎")
    return text if whole or len(text) < 52 else text[:51] + "…"


def _show_rows(rows: Any) -> None:
    from yarrik.cli.view import show_table

    show_table(list(rows))


def _conditions(session: Session, composition: Composition | None, kind: str, name: str) -> Iterator[tuple[str, str, str]]:
    """Each `[[when]]` of a definition, with whether it holds."""
    from yarrik.errors import YarrikError, shown_path
    from yarrik.model import Circumstances, holds, line_of

    now = composition.now if composition is not None else Circumstances()
    if composition is not None:
        with contextlib.suppress(YarrikError):
            now = session.planner.answer(composition).composition.now
    if kind == "recipe":
        now = now.of_recipe(name, (now.versions or {}).get(name))
    for ancestor in reversed(session.project.workspace.ancestry(kind, name)):
        document = session.project.workspace.shelved[kind][ancestor].document
        for index, when in enumerate(document.raw.get("when", ())):
            answer = holds(when, now)
            words = " and ".join(f"{key} {value}" for key, value in when.items() if key != "set")
            state = {True: "holds", False: "does not hold", None: "waits for what is resolved"}[answer]
            yield (
                f"when {words}",
                state if composition is not None else "",
                f"{shown_path(document.file)}:{line_of(document.file, ('when', str(index)))}",
            )


def _show_amendments(workspace: Workspace, json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.model import dotted, paths_below

    rows = []
    for one in workspace.amendments:
        kind, target = one.value.target
        under = workspace.shelved[kind][target].shelf or "the workspace"
        keys = [dotted(path) for path in paths_below(one.document.raw.get("set", {}))]
        leaves = [key for key in keys if not any(other.startswith(key + ".") for other in keys)]
        leaves += ["conditions"] if one.value.when else []
        first = next((path for path in paths_below(one.document.raw.get("set", {})) if dotted(path) in leaves), ())
        place = one.document.origin("set", *first).place.short
        rows.append((one.shelf or "the workspace", kind, target, under, ", ".join(leaves), one.value.summary, place))
    if json:
        names = ("shelf", "kind", "name", "of-shelf", "keys", "summary", "at")
        print_json([dict(zip(names, row, strict=True)) for row in rows])
        return
    if not rows:
        sys.stdout.write("no shelf amends another's definitions\n")
    for shelf, kind, target, under, keys_told, summary, place in rows:
        sys.stdout.write(f"{styled(shelf, 'bold')} amends the {kind} {styled(target, 'bold')} of {under}: {summary}\n")
        show_table([(keys_told, place)])


def _show_graph(session: Session, composition: Composition, form: str, figure: Path | None, json: bool) -> None:
    from yarrik.cli.view import print_json
    from yarrik.errors import Trouble, YarrikError, shown_path, suggestion
    from yarrik.report import dot_of, drawn_graph, figure_of, tree_of

    if form not in ("tree", "dot"):
        raise YarrikError(
            Trouble("FORM-UNKNOWN", f"there is no form `{form}` of a graph", remedy=suggestion(form, ("tree", "dot")))
        )
    if figure is not None and figure.suffix not in (".png", ".svg", ".pdf"):
        raise YarrikError(Trouble("FORM-UNKNOWN", f"`{figure.name}` does not tell in which form to draw",
                                  remedy="let its name end in .png, .svg or .pdf"))  # fmt: skip
    drawn = drawn_graph(session.planner.answer(composition))
    if figure is not None:
        figure_of(drawn, figure)
        sys.stdout.write(f"{shown_path(figure.absolute())}\n")
    elif json:
        print_json(
            {
                "ok": True,
                "product": composition.name,
                "edges": [{"from": s, "to": t, "kind": kind} for s, t, kind in drawn.edges],
            }
        )
    elif form == "dot":
        sys.stdout.write(dot_of(drawn))
    else:
        sys.stdout.write("\n".join(tree_of(drawn)) + "\n")


@app.command(
    epilog="Examples: [bold]yarrik schema recipe[/bold] · [bold]yarrik schema board kernel.console[/bold] · "
    "[bold]yarrik schema --to .schemas[/bold]"
)
def schema(
    kind: Annotated[
        str | None, typer.Argument(help="workspace, shelf, board, profile, image, product, recipe, variant, …")
    ] = None,
    key: Annotated[str | None, typer.Argument(help="A key like kernel.console: what it is for, with an example.")] = None,
    to: Annotated[Path | None, typer.Option(metavar="FOLDER", help="Writes those of all kinds into a folder.")] = None,
    markdown: Annotated[bool, typer.Option("--markdown", help="Prints all keys of all kinds as a page.")] = False,
) -> None:
    """Prints the JSON Schema of a kind of file, for editors that check and complete TOML by it; or what a key is for."""
    import json

    from yarrik.errors import Trouble, YarrikError, shown_path, suggestion
    from yarrik.model import FILES, as_reference, schema_of
    from yarrik.plan import choices

    if markdown:
        sys.stdout.write(as_reference(choices()))
        return
    if kind is not None and kind not in FILES:
        raise YarrikError(Trouble("KIND-UNKNOWN", f"there is no kind of file `{kind}`", remedy=suggestion(kind, FILES)))
    if key is not None and kind is not None:
        _show_key(kind, key)
    elif to is not None:
        to.mkdir(parents=True, exist_ok=True)
        for one in [kind] if kind is not None else sorted(FILES):
            (to / f"{one}.json").write_text(json.dumps(schema_of(one, choices()), indent=1) + "\n")
        sys.stdout.write(f"{len(FILES) if kind is None else 1} schemas in {shown_path(to.absolute())}\n")
    elif kind is None:
        sys.stdout.write("kinds: " + ", ".join(FILES) + "\n")
    else:
        sys.stdout.write(json.dumps(schema_of(kind, choices()), indent=1) + "\n")


def _show_key(kind: str, key: str) -> None:
    """What a key is for; the keys below it when it is a table."""
    from yarrik.cli.view import show_table, styled
    from yarrik.errors import Trouble, YarrikError, suggestion
    from yarrik.model import FILES, find_key, keys_of
    from yarrik.plan import choices

    known = choices()
    found = find_key(kind, key, known)
    if found is None:
        names = {one.key for one in keys_of(FILES[kind], known)}
        raise YarrikError(Trouble("KEY-UNKNOWN", f"a {kind} has no key `{key}`", remedy=suggestion(key.split(".")[0], names)))
    sys.stdout.write(f"{styled(key, 'bold')}  {found.text}\n")
    rows = [("type", found.form), ("default", "it has to be there" if found.required else found.default or "nothing"),
            ("example", f"{found.key} = {found.example}")]  # fmt: skip
    show_table([(styled(word, "dim"), text) for word, text in rows])
    if found.inner is not None:
        sys.stdout.write("keys in it\n")
        show_table([(one.key, one.text) for one in keys_of(found.inner, known)])
