"""A product's own steps, made again after settings of its definitions have changed: as a plan has them, and nothing else does."""

import hashlib
import os
import re
import shutil
import sys
import time
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar, NamedTuple, cast
from unittest import mock

import msgspec
import tomlkit

from tests import test_rebuilding, test_same_meaning
from tests.support import WorkspaceTest
from tests.test_kernel import PretendedKernel
from tests.test_unchanged import SETTLED, World
from yarrik.demo import lay_out_demo
from yarrik.errors import YarrikError
from yarrik.model import Board, BootChoice, Image, KernelChoice, Overrides, Product, Variant
from yarrik.plan import Assemble, Step, fingerprint_of, own_settings
from yarrik.run import (
    BuildReport,
    Choices,
    Planned,
    Question,
    Rebuilder,
    Session,
    StepRow,
    kept_definitions,
    kept_plan,
    own_steps,
    rebuilding,
    silent,
    unchanged,
    watched,
)
from yarrik.run.kept_plan import Kept, Otherwise
from yarrik.run.own_steps import MadeAgain, OwnAgain
from yarrik.run.unchanged import PlanKept

Raw = dict[str, Any]


class Anew(NamedTuple):
    """A product as it is planned in full, and what is kept of that."""

    planned: Planned
    kept: PlanKept

    @property
    def own(self) -> list[Step]:
        """The product's own steps."""
        own = self.planned.graph.own
        assert own is not None
        return list(self.planned.graph.steps[own.first :])


def rows_of(steps: tuple[Step, ...]) -> list[StepRow]:
    """Rows of steps as if each had left something."""
    left: dict[str, dict[str, str]] = {step.name: {} for step in steps}
    for name, output in (one for step in steps for one in step.inputs.values()):
        left[name][output] = hashlib.sha256(f"{name} {output}".encode()).hexdigest()
    found = []
    for step in steps:
        inputs = {label: left[name][output] for label, (name, output) in step.inputs.items()}
        found.append(StepRow(step.name, "kept", "", 1.0, fingerprint_of(step, inputs), left[step.name], ()))
    return found


class Planning(WorkspaceTest):
    """Plans, and makes own steps again, without running any step."""

    choices = Choices()

    def setUp(self) -> None:
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, self.environment, clear=True))

    def anew(self, root: Path, product: str | None = None) -> Anew:
        """The product as it is now, planned."""
        session = Session(root, self.choices)
        self.addCleanup(session.close)
        with watched() as watch:
            planned = session.planner.planned(session.planner.compose(product, Overrides()))
        report = SimpleNamespace(rows=rows_of(planned.graph.steps), logs=None)
        said = session.builder._said(planned, ())
        kept = session.builder._plan_kept(planned, said, cast("BuildReport", report), watch)
        assert kept is not None
        return Anew(planned, kept)

    def again(self, before: PlanKept, root: Path, files: list[Path], product: str | None = None) -> MadeAgain:
        """The product's own steps as they are now, from what was kept of a plan. Raises Otherwise, YarrikError."""
        file = self.folder / "steps"
        file.write_bytes(before.steps)
        kept = Kept(kept_plan.decoded_plan(before.plan), kept_plan.decoded_state(before.state), file)
        session = Session(root, self.choices)
        try:
            with mock.patch("yarrik.resolve.resolve", side_effect=AssertionError("it was resolved")):
                return OwnAgain(session.project, Question(root, product), kept, set(map(str, files))).run()
        finally:
            session.close()

    def check_same(self, made: MadeAgain, anew: Anew) -> None:
        """What was made again is what a plan in full comes to."""
        self.assertEqual([step.name for step in made.steps.values()], [step.name for step in anew.own])
        for step, planned in zip(made.steps.values(), anew.own, strict=True):
            self.assertEqual(step, planned)
            self.assertEqual({label: place.line for label, place in step.marks.items()},
                             {label: place.line for label, place in planned.marks.items()})  # fmt: skip
        plan, state = kept_plan.decoded_plan(anew.kept.plan), kept_plan.decoded_state(anew.kept.state)
        for name in plan.__struct_fields__:
            if name != "steps":
                self.assertEqual(getattr(made.plan, name), getattr(plan, name), name)
        self.assertEqual(
            list(self.read(made.plan, made.file, min(made.steps))), list(self.read(plan, anew.kept.steps, min(made.steps)))
        )
        self.assertEqual(made.state.digests, state.digests)
        self.assertEqual([row.step for row in made.state.rows], [row.step for row in state.rows])

    def read(self, plan: kept_plan.KeptPlan, file: bytes, first: int) -> Iterator[tuple[object, ...]]:
        """The kept steps; of recipes' without what messages point at, which may be a table of the board that came or went."""
        for number, one in enumerate(plan.steps):
            part = file[one.part.begin : one.part.begin + one.part.size] if one.part is not None else b""
            step = kept_plan.decoded_step(part) if part else None
            yield (one.name, one.needs, one.private,
                   msgspec.structs.replace(step, marks={}) if step is not None and number < first else part)  # fmt: skip


def merged(low: Mapping[str, Any], high: Mapping[str, Any]) -> Raw:
    """A definition with settings; those of tables are put into them."""
    found: Raw = dict(low)
    for key, value in high.items():
        inner = found.get(key)
        found[key] = merged(inner, value) if isinstance(inner, dict) and isinstance(value, dict) else value
    return found


class AWorkspace(Planning):
    """A workspace with a definition of each kind, and what they may name."""

    def setUp(self) -> None:
        super().setUp()
        self.recipe("tool", "true", {"a.txt": "a"})
        self.write("w/s/boards/gauge.dts", '/dts-v1/;\n/ { compatible = "tide,gauge"; };\n')
        for folder in ("s/boards", "s/images", "s/variants", "products"):  # beside whatever may name them
            self.write(f"w/{folder}/other.dts", '/dts-v1/;\n/ { compatible = "tide,other"; };\n')
            self.write(f"w/{folder}/over.dtso", "/dts-v1/;\n/plugin/;\n&{/} { port = <1>; };\n")
            self.write(f"w/{folder}/more/more.dtsi", "/ { };\n")
            self.write(f"w/{folder}/note.txt", "tide=high\n")
            self.write(f"w/{folder}/tree/etc/tree", "high\n")
        self.write("w/s/variants/v.toml", "[set]\nimage.refuse = ['tool']\n")
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + 'variants = ["v"]\n[[more-image]]\nname = "rescue"\nimage = "rescue"\n')
        self.write("w/s/images/rescue.toml", 'packages = ["init"]\n')
        board = self.root / "s/boards/b.toml"
        board.write_text(board.read_text().replace("[kernel]\n", '[kernel]\ndevice-tree = "gauge.dts"\n'))
        self.files = {
            "image": self.root / "s/images/i.toml",
            "board": board,
            "product": product,
            "variant": self.root / "s/variants/v.toml",
        }
        self.before = self.anew(self.root)


ROOT = {"name": "root", "holds": "root"}


class EveryKey(AWorkspace):
    """From each key that is said to make own steps alone, nothing else follows."""

    IMAGE: ClassVar[Raw] = {
        "environment": {"TIDE": "high"},
        "file": [{"path": "/etc/tide", "content": "high\n"}, {"path": "/etc/note", "from": "note.txt"}],
        "firewall": "note.txt",
        "folder": [{"path": "/srv/tide"}],
        "hostname": "tern",
        "hosts": {"10.0.0.7": ["gauge"]},
        "link": [{"path": "/etc/gauge", "to": "/srv"}],
        "marker": "the tide is up",
        "message-of-the-day": "high water\n",
        "network": [{"name": "eth0", "addresses": ["10.0.0.7/24"]}],
        "node": [{"path": "/dev/gauge", "kind": "character", "major": 1, "minor": 3}],
        "release": {"name": "Tide", "id": "tide"},
        "service": [{"name": "gauge", "program": "/sbin/init"}],
        "start-folder": [{"path": "/run/tide"}],
        "summary": "of a gauge",
        "sysctl": {"kernel.panic": "10"},
        "time-zone": "Europe/Lisbon",
        "tree": [{"from": "tree"}],
        "values": {"port": "7"},
        "writable": [{"path": "/var/lib/tide", "by": "memory"}],
    }
    KERNEL: ClassVar[Raw] = {
        "arguments": ["quiet"],
        "console": "ttyS1",
        "device-tree": "other.dts",
        "include": ["more"],
        "log-level": 4,
        "more-consoles": ["tty0"],
        "more-device-trees": ["other.dts"],
        "overlay-parameters": {"over": {"port": "1"}},
        "overlays": ["over.dtso"],
    }
    BOOT: ClassVar[Raw] = {
        "entry": [{"name": "rescue", "arguments": ["single"]}],
        "environment": {"file": "note.txt", "size": "16 KiB"},
        "file": [{"path": "/more.txt", "file": "note.txt"}],
        "initramfs": "root",
        "initramfs-compression": "xz",
        "loader": {"file": "note.txt"},
        "memory-bundle": True,
        "method": "entries",
        "overlays": "placed",
        "part": [{"name": "first", "file": "note.txt"}],
        "read-only": True,
        "root": "partlabel",
        "root-device": "sda",
        "script": False,
        "seconds": 3,
        "settings": {"lines": ["port=1"]},
        "slot": [{"name": "a", "root": "root"}],
        "switch": {"state": "state"},
    }
    BOARD: ClassVar[Raw] = {
        "disk": [
            {"name": "disk", "partition": [{**ROOT, "size": "64 MiB"}], "blob": [{"file": "note.txt", "offset": "64 KiB"}]}
        ],
        "emulator": {"program": "true", "arguments": ["{image}"]},
        "memory": {"size": "1 GiB"},
        "summary": "of a gauge",
    }
    PRODUCT: ClassVar[Raw] = {
        "boot-into": ["folder"],
        "marker": "the tide is up",
        "root-into": ["tar-xz"],
        "summary": "a gauge",
        "version": "1.2",
    }
    #: What goes with a key.
    WITH: ClassVar[dict[str, Raw]] = {
        "overlay-parameters": {"kernel": {"overlays": ["over.dtso"]}},
        "switch": {"boot": {"method": "script", "slot": [{"name": "a", "root": "root"}, {"name": "b", "root": "spare"}]},
                   "disk": [{"name": "card", "partition": [
                       {"name": "files", "holds": "boot", "filesystem": "fat"}, {**ROOT, "copies": ["spare"]},
                       {"name": "state", "size": "1 MiB", "filesystem": "none"}]}]},
    }  # fmt: skip

    def cases(self) -> Iterator[tuple[str, str, Raw]]:
        """Kinds, keys, and definitions of one setting."""
        for key, value in self.IMAGE.items():
            yield "image", key, {key: value}
        for part, table in (("kernel", self.KERNEL), ("boot", self.BOOT)):
            for key, value in table.items():
                yield "board", f"{part}.{key}", merged(self.WITH.get(key, {}), {part: {key: value}})
        for key, value in self.BOARD.items():
            yield "board", key, {key: value}
        for key, value in self.PRODUCT.items():
            yield "product", key, {key: value}

    def check(self, kind: str, raw: Raw) -> bool:
        """Changes a definition, and looks whether a plan comes to the same; whether one came to anything."""
        file = self.files[kind]
        text = file.read_text()
        file.write_text(tomlkit.dumps(merged(tomllib.loads(text), raw)))
        try:
            anew = self.anew(self.root)
        except YarrikError as wrong:
            with self.assertRaises((YarrikError, Otherwise)) as met:
                self.again(self.before.kept, self.root, [file])
            if isinstance(met.exception, YarrikError):
                self.assertEqual(met.exception.troubles, wrong.troubles)
            return False
        else:
            self.check_same(self.again(self.before.kept, self.root, [file]), anew)
            return True
        finally:
            file.write_text(text)

    def test_each_makes_own_steps_alone(self) -> None:
        wrong = []
        for kind, key, raw in self.cases():
            with self.subTest(kind, key=key):
                if not self.check(kind, raw):
                    wrong.append(key)
        self.assertEqual(wrong, [])

    def test_each_in_what_changes_it(self) -> None:
        for kind, key, raw in self.cases():
            for where in ("product", "variant"):
                with self.subTest(kind, key=key, where=where):
                    disks = {"disk": {"replace": raw["disk"]}} if "disk" in raw else {}
                    self.assertTrue(self.check(where, {"set": {kind: raw | disks}}))

    def test_of_a_further_image(self) -> None:
        self.files["rescue"] = self.root / "s/images/rescue.toml"
        for key, value in self.IMAGE.items():
            with self.subTest(key):
                self.assertTrue(self.check("rescue", {key: value}))

    def test_every_key_is_one_or_is_not(self) -> None:
        """Who adds a key to a definition has to say which."""
        others = {
            "image": "card-settings extends first-boot group locale options packages refuse replaces root user versions when",
            "board": "arch boot bootloader extends kernel options replaces toolchain versions when",
            "kernel": "base base-file built-in built-in-image form fragments keep-labels otherwise recipe silence",
            "boot": "command-line-in key key-name",
            "product": "board image more-image options profile replaces set silence variants versions",
            "variant": "options replaces set versions",
        }
        own: Mapping[str, Mapping[str, Any]] = {**own_settings._OWN, "kernel": own_settings._KERNEL, "boot": own_settings._BOOT}
        shapes = {"image": Image, "board": Board, "kernel": KernelChoice, "boot": BootChoice, "product": Product,
                  "variant": Variant}  # fmt: skip
        for kind, shape in shapes.items():
            with self.subTest(kind):
                if kind in own_settings._OWN:
                    for key in others[kind].split():
                        self.assertIn(key, own_settings.beyond_own_steps(kind, {key: 1}))
                known = {key for key, inner in own[kind].items() if inner is None}
                self.assertEqual(known | set(others[kind].split()), {one.encode_name for one in msgspec.structs.fields(shape)})
        samples = {"image": self.IMAGE, "board": self.BOARD, "kernel": self.KERNEL, "boot": self.BOOT, "product": self.PRODUCT}
        for kind, values in samples.items():
            self.assertEqual({key for key, inner in own[kind].items() if inner is None}, values.keys(), kind)

    def test_each_after_the_other(self) -> None:
        """What was made again is made again from what was kept of it."""
        before, words = self.before.kept, []
        for kind, key, raw in self.cases():
            file = self.files[kind]
            text = file.read_text()
            file.write_text(tomlkit.dumps(merged(tomllib.loads(text), raw)))
            with suppress(YarrikError):  # not all go together
                anew = self.anew(self.root)
                made = self.again(before, self.root, [file])
                self.check_same(made, anew)
                before = PlanKept(kept_plan.encoded(made.plan), made.file, kept_plan.encoded(self.as_run(made.state, anew)))
                words.append(key)
                continue
            file.write_text(text)
        self.assertGreater(len(words), 40)
        self.check_same(self.again(before, self.root, [self.files["image"]]), self.anew(self.root))

    def as_run(self, state: kept_plan.KeptState, anew: Anew) -> kept_plan.KeptState:
        """A state as a build leaves it: its new steps have run."""
        state.rows = kept_plan.decoded_state(anew.kept.state).rows
        return state

    def test_a_step_that_a_recipe_has_is_none_of_the_product(self) -> None:
        plan = kept_plan.decoded_plan(self.before.kept.plan)
        plan.steps[0] = msgspec.structs.replace(plan.steps[0], name="assemble p")
        with self.assertRaises(Otherwise):
            self.again(
                msgspec.structs.replace(self.before.kept, plan=kept_plan.encoded(plan)), self.root, [self.files["image"]]
            )

    def test_what_is_made_of_a_private_recipe_goes_nowhere(self) -> None:
        recipe = self.root / "s/recipes/init/recipe.toml"
        recipe.write_text("private = true\n" + recipe.read_text())
        self.before = self.anew(self.root)
        self.assertTrue(self.check("image", {"hostname": "tern"}))
        made = self.again(self.before.kept, self.root, [])
        self.assertEqual({one.private for one in made.plan.steps[min(made.steps) :] if one.name.startswith("write")}, {True})

    def test_without_a_sandbox(self) -> None:
        self.choices = Choices(use_sandbox=False)
        self.before = self.anew(self.root)
        self.assertTrue(self.check("board", {"kernel": {"overlays": ["over.dtso"]}}))
        made = self.again(self.before.kept, self.root, [])
        self.assertEqual([step.name for step in made.steps.values() if step.open], ["build device tree of b"])

    def test_what_a_board_does_not_have_any_more_is_planned(self) -> None:
        """Another product may have it, which is told."""
        board = self.files["board"]
        board.write_text(board.read_text().replace('device-tree = "gauge.dts"\n', ""))
        with self.assertRaises(Otherwise):
            self.again(self.before.kept, self.root, [board])

    def test_another_output_of_a_recipe_is_planned(self) -> None:
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text() + "[outputs]\nword = 'bin/word'\n")
        before, board = self.anew(self.root).kept, self.files["board"]
        for raw in ({"boot": {"file": [{"path": "/word", "file": "tool:word"}]}},
                    {"emulator": {"program": "true", "arguments": ["{tool:word}"]}}):  # fmt: skip
            text = board.read_text()
            board.write_text(tomlkit.dumps(merged(tomllib.loads(text), raw)))
            self.anew(self.root)
            with self.assertRaises(Otherwise):
                self.again(before, self.root, [board])
            board.write_text(text)


class EveryKeyWithAKernel(EveryKey, PretendedKernel):
    """The same of a board whose kernel is built here."""

    def test_a_source_of_a_recipes_step_is_planned(self) -> None:
        """Who takes it is known of steps that were planned together."""
        board = self.files["board"]
        text = board.read_text()
        more = {"boot": {"file": [{"path": "/x", "file": "b.kcfg"}]}}
        board.write_text(tomlkit.dumps(merged(tomllib.loads(board.read_text()), more)))
        with self.assertRaises(Otherwise):
            self.again(self.before.kept, self.root, [board])
        before = self.anew(self.root).kept
        with self.assertRaises(Otherwise):
            self.again(before, self.root, [self.files["image"]])
        board.write_text(text)
        with self.assertRaises(Otherwise):
            self.again(before, self.root, [board])

    def test_a_file_with_the_content_of_a_recipes_source(self) -> None:
        """It cannot be told from what follows from that by its digest: its own changes are planned."""
        shutil.copy(self.root / "s/boards/b.kcfg", self.root / "s/boards/same.txt")
        board = self.files["board"]
        more = {"boot": {"file": [{"path": "/x", "file": "same.txt"}]}}
        board.write_text(tomlkit.dumps(merged(tomllib.loads(board.read_text()), more)))
        made = self.again(self.before.kept, self.root, [board])
        self.assertEqual(list(made.steps.values()), self.anew(self.root).own)
        self.assertNotIn(str(self.root / "s/boards/same.txt"), [one.path for one in made.plan.sources])

    def test_what_is_compiled_in_is_planned(self) -> None:
        """A command line that the kernel's build takes, and an image that the kernel carries."""
        self.write("w/s/boards/b.kcfg", "CONFIG_SERIAL=y\nCONFIG_GAUGE=y\nCONFIG_BLK_DEV_INITRD=y\n")
        rescue = {"more-image": [{"name": "rescue", "image": "rescue", "init-path": "/init", "init": "first"}]}
        self.recipe("first", "mkdir -p $DESTDIR; echo > $DESTDIR/init")
        for raw in ({"boot": {"command-line-in": "kernel"}}, {"kernel": {"built-in-image": "rescue"}}):
            files = {kind: self.files[kind].read_text() for kind in ("board", "product")}
            for kind, more in (("board", raw), ("product", rescue)):
                self.files[kind].write_text(tomlkit.dumps(merged(tomllib.loads(files[kind]), more)))
            kept = self.anew(self.root).kept
            self.assertEqual(kept_plan.decoded_plan(kept.plan).own_steps, b"")
            with self.assertRaises(Otherwise):
                self.again(kept, self.root, [self.files["image"]])
            for kind, text in files.items():
                self.files[kind].write_text(text)


class WhatIsAnswered(AWorkspace):
    def test_conditions_that_wait_for_answers(self) -> None:
        """In whatever the product is put together of."""
        recipe, amendment = self.root / "s/recipes/tool/recipe.toml", self.root / "s/amendments/a.toml"
        recipe.write_text(recipe.read_text() + "[options.loud]\nsummary = 'loud'\n")
        self.write("w/s/amendments/a.toml", 'image = "i"\n[set]\nhostname = "gull"\n')
        for file, setting in (
            (self.files["image"], {"hostname": "tern"}),
            (self.files["board"], {"boot": {"seconds": 3}}),
            (self.root / "s/images/rescue.toml", {"hostname": "tern"}),
            (self.root / "s/profiles/p.toml", {"strip": False}),
            (amendment, {"hostname": "tern"}),
        ):
            text = file.read_text()
            for condition, waits in (
                ({"option": "tool[loud]"}, True),
                ({"version": "tool >= 1"}, True),
                ({"arch": "host"}, False),
            ):
                with self.subTest(file.name, condition=condition):
                    when = {"when": [{**condition, "set": setting}]}
                    file.write_text(tomlkit.dumps(merged(tomllib.loads(text), when)))
                    self.assertEqual(not kept_plan.decoded_plan(self.anew(self.root).kept.plan).own_steps, waits)
            file.write_text(text)


class EveryProductOfTheDemo(Planning):
    def test_settings_of_all_that_each_is_made_of(self) -> None:
        """With kernels, bootloaders, keys, slots and secrets."""
        root = self.folder / "demo"
        lay_out_demo(root)
        found: dict[str, int] = {}
        changes: dict[str, Raw] = {
            "image": {"hostname": "tern", "sysctl": {"kernel.panic": "7"}, "message-of-the-day": "high water\n"},
            "board": {"kernel": {"log-level": 4}, "boot": {"seconds": 3}},
            "product": {"version": "9.9", "set": {"board": {"kernel": {"more-consoles": ["tty9"]}}}},
            "variant": {"set": {"image": {"values": {"port": "7"}}}},
        }
        session = Session(root, Choices())
        products = sorted(session.project.workspace.shelved["product"])
        session.close()
        for product in products:
            try:
                before = self.anew(root, product)
            except YarrikError:  # what this machine lacks
                continue
            composition = before.planned.composition
            used = kept_definitions.used_definitions(composition)
            files = {composition.workspace.shelved[kind][name].file: kind for kind, name in used if kind in changes}
            texts = {file: file.read_text() for file in files}
            for file, kind in files.items():
                file.write_text(tomlkit.dumps(merged(tomllib.loads(texts[file]), changes[kind])))
            with self.subTest(product):
                try:
                    made = self.again(before.kept, root, list(files), product)
                except Otherwise:
                    self.assertEqual(kept_plan.decoded_plan(before.kept.plan).own_steps, b"")
                    found[product] = 0
                else:
                    self.check_same(made, self.anew(root, product))
                    found[product] = sum(step.name.startswith(("assemble", "boot", "write")) for step in made.steps.values())
            for file, text in texts.items():
                file.write_text(text)
        print(found, file=sys.stderr)
        self.assertGreater(len([one for one in found.values() if one]), 5)


class Built(test_rebuilding.Rebuilt):
    """Builds after settings have changed."""

    def setUp(self) -> None:
        super().setUp()
        self.image = self.root / "s/images/i.toml"
        self.board = self.root / "s/boards/b.toml"

    def set(self, file: Path, raw: Raw) -> None:
        file.write_text(tomlkit.dumps(merged(tomllib.loads(file.read_text()), raw)))

    def built(self) -> BuildReport:
        """Builds without resolving."""
        with mock.patch("yarrik.run.planning.Planner", side_effect=AssertionError("it was planned")):
            return self.rebuilt()

    def check_against_planning(self, report: BuildReport) -> None:
        long = self.long_way()
        self.assertEqual([row.fingerprint for row in report.rows], [one.fingerprint for one in long.steps])
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])
        self.assertFalse(long.published)

    def inside(self, path: str) -> str:
        return self.content(path)

    def test_a_host_name(self) -> None:
        self.set(self.image, {"hostname": "tern"})
        report = self.built()
        self.assertEqual(self.ran(report), ["assemble p", "boot p", "write p", "check p", "describe p"])
        self.assertTrue(report.published)
        self.assertEqual(self.inside("/etc/hostname"), "tern\n")
        self.check_against_planning(report)

    def test_it_is_known_again_afterwards(self) -> None:
        for name in ("tern", "gull", "tern"):
            self.set(self.image, {"hostname": name})
            self.assertIn("assemble p", [one.step.name for one in self.built().steps])
            time.sleep(2 * SETTLED)
            self.assertEqual(self.ran(self.built()), [])
            known = unchanged.kept_build(self.question)
            assert known is not None
            self.assertEqual([*known.steps], [row.step for row in self.planned_rows()])
        (self.source / "b.txt").write_text("another\n")
        self.assertEqual(self.ran(self.built())[:2], ["prepare tool", "build tool"])
        self.assertEqual(self.inside("/etc/hostname"), "tern\n")

    def planned_rows(self) -> list[StepRow]:
        return rows_of(self.planned().graph.steps)

    def test_a_source_and_a_setting_at_once(self) -> None:
        self.set(self.image, {"hostname": "tern"})
        (self.source / "a.txt").write_text("spring tide\n")
        (self.root / "s/images/note.txt").write_text("low water\n")
        report = self.built()
        self.assertEqual(self.ran(report)[:3], ["prepare tool", "build tool", "stage tool"])
        self.assertEqual((self.inside("/etc/hostname"), self.inside("/etc/note")), ("tern\n", "low water\n"))
        self.check_against_planning(report)

    def test_a_recipe_and_then_a_setting(self) -> None:
        """The recipe may have changed again unseen, and has not."""
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace("cp a.txt", "cp b.txt"))
        self.built()
        self.set(self.image, {"hostname": "tern"})
        report = self.built()
        self.assertEqual(self.ran(report)[0], "assemble p")
        self.check_against_planning(report)

    def test_a_recipe_and_a_setting_at_once_are_planned(self) -> None:
        self.set(self.image, {"hostname": "tern"})
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace("cp a.txt", "cp b.txt"))
        self.assertIsNone(self.short_way())

    def test_what_would_run(self) -> None:
        """It is what planning tells, and `yarrik plan` says as much of it."""
        self.set(self.root / "products/p.toml", {"root-into": ["tar"]})
        self.set(self.image, {"hostname": "tern"})
        found = unchanged.asked_before(self.question)
        assert isinstance(found, unchanged.FewChanges)
        session = Session(self.root)
        self.addCleanup(session.close)
        rebuilder = Rebuilder(session.project, found)
        short = rebuilder.assess()
        assert short is not None
        planned = session.planner.planned(session.planner.compose())
        long = session.planner.assess(planned)
        self.assertEqual([one for one in long if one.verdict != "kept"], [one for one in short if one.verdict != "kept"])
        self.assertEqual(rebuilder.steps, len(long))
        name = "assemble p"
        self.assertEqual(Rebuilder(session.project, found).why_runs(name), session.planner.why_runs(planned, name))
        said = self.yarrik("plan", at=self.root)
        (self.root / ".yarrik/unchanged").rename(self.folder / "unchanged")
        self.assertEqual(said, self.yarrik("plan", at=self.root))
        self.assertIn("files of the image changed: /etc/hostname, /etc/hosts", said)

    def test_a_version_and_then_a_setting(self) -> None:
        """The manifests have both, and so has what is kept."""
        recipe = self.root / "s/recipes/tool/recipe.toml"
        recipe.write_text(recipe.read_text().replace('version = "1"', 'version = "1.5"'))
        self.assertIn("describe p", self.ran(self.built()))
        self.set(self.image, {"hostname": "tern"})
        self.set(self.root / "products/p.toml", {"root-into": ["tar"]})  # a step that comes before the manifests
        report = self.built()
        self.assertIn("write root of p", self.ran(report))
        recipe.write_text(recipe.read_text().replace('version = "1.5"', 'version = "1.6"'))
        self.check_against_planning(self.built())

    def test_an_option_and_a_setting_at_once_are_planned(self) -> None:
        product = self.root / "products/p.toml"
        product.write_text(product.read_text() + "[options.tool]\nloud = true\n")
        self.set(self.image, {"hostname": "tern"})
        self.assertIsNone(self.short_way())
        product.write_text("# as it was\n" + product.read_text().replace("[options.tool]\nloud = true\n", ""))
        self.check_against_planning(self.built())

    def test_options_and_a_setting_in_one_file_are_planned(self) -> None:
        product = self.root / "products/p.toml"
        text = product.read_text()
        chosen = "[options.tool]\nloud = true\n"
        product.write_text(f'version = "2"\n{text}{chosen}')
        self.assertIsNone(self.short_way())
        product.write_text(text + chosen)
        self.assertIn("build tool", self.ran(self.built()))
        product.write_text(
            f'version = "2"\n{text}'
        )  # the options are those that were planned with, and not those that were built
        self.assertIsNone(self.short_way())
        product.write_text(text)
        self.built()

    def test_a_file_that_nothing_had_before(self) -> None:
        """It is a source from now on, or what it says is looked at: another text of it is seen."""
        self.write("w/s/images/more.txt", "1\n")
        self.settle()
        for number, template in enumerate((False, True)):
            more = {"path": f"/etc/more-{number}", "from": "more.txt", "template": template}
            files = tomllib.loads(self.image.read_text())["file"]
            self.set(self.image, {"file": [*files, more]})
            self.built()
            for text in ("2\n", "3\n"):
                (self.root / "s/images/more.txt").write_text(text)
                self.assertIsNone(unchanged.kept_build(self.question))
                report = self.short_way() or self.long_way()
                self.assertEqual(self.inside(f"/etc/more-{number}"), text)
                self.check_against_planning(report)

    def test_what_is_looked_at_for_it_is_looked_at_again(self) -> None:
        """A template outside of all folders that were looked at so far, and a link to it."""
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "motd").write_text("high\n")
        (self.root / "s/images/linked").symlink_to(outside)
        self.settle()
        files = tomllib.loads(self.image.read_text())["file"]
        self.set(self.image, {"file": [*files, {"path": "/etc/motd", "from": "linked/motd", "template": True}]})
        self.built()
        self.assertEqual(self.inside("/etc/motd"), "high\n")
        time.sleep(2 * SETTLED)
        self.built()
        self.assertIsNotNone(unchanged.kept_build(self.question))
        (outside / "motd").write_text("low\n")
        self.assertIsNone(unchanged.kept_build(self.question))
        self.assertIsNone(self.short_way())

    def test_a_file_of_this_machine_that_nothing_had_before(self) -> None:
        """Elsewhere than all that was looked at; and through a link."""
        program = self.folder / "loader.bin"
        program.write_bytes(b"1")
        (self.folder / "link").symlink_to(program)
        for name in ("loader.bin", "link"):
            with self.subTest(name):
                text = self.board.read_text()
                self.set(self.board, {"boot": {"loader": {"host-file": str(self.folder / name)}}})
                self.assertIn("boot p", [one.step.name for one in self.built().steps])
                time.sleep(2 * SETTLED)
                self.built()
                self.assertIsNotNone(unchanged.kept_build(self.question))
                program.write_bytes(program.read_bytes() + b"2")
                self.assertIsNone(unchanged.kept_build(self.question))
                report = self.short_way() or self.long_way()
                self.assertEqual([one.how for one in report.steps if one.step.name == "boot p"], ["ran"])
                self.check_against_planning(report)
                self.board.write_text(text)
                self.settle()

    def test_what_was_asked_for_is_no_mere_source(self) -> None:
        """A file that planning opened for something else, and that a step takes from now on."""
        record = msgspec.structs.replace(self.record(), lists=())
        asked = str(self.root / "s/recipes/tool/recipe.toml")
        plan = PlanKept(b"", b"", b"", sources=[(asked, None), (str(self.source), ())])
        statuses = unchanged._statuses(record)[: 6 * (len(record.paths) + len(record.linked))]
        widened = unchanged._widened(record, statuses, unchanged.Watch(), plan, self.root)
        assert widened is not None
        self.assertIn(asked, widened[0].sources)
        self.assertIn(asked, widened[0].seen)
        self.assertEqual((widened[0].paths, widened[1]), (record.paths, statuses))

    def test_a_step_that_comes_and_goes(self) -> None:
        product, out = self.root / "products/p.toml", self.root / "out/p"
        text = product.read_text()
        product.write_text('root-into = ["tar"]\n' + text)
        self.assertIn("write root of p", self.ran(report := self.built()))
        self.assertTrue((out / "p-root.tar").is_file())
        self.check_against_planning(report)
        product.write_text(text)
        report = self.built()
        self.assertNotIn("write root of p", [row.step for row in report.rows])
        self.assertFalse((out / "p-root.tar").exists())
        record = self.record()
        self.assertNotIn("write root of p", record.steps)
        held = {one.hex() for _, _, digests in record.held for one in unchanged._parts(digests)}
        self.assertEqual(held, {digest for row in report.rows for digest in row.outputs.values()})
        self.check_against_planning(report)

    def test_another_disk(self) -> None:
        text = self.board.read_text()
        self.board.write_text(text.replace('name = "card"', 'name = "stick"'))
        report = self.built()
        self.assertTrue(report.published)
        self.check_against_planning(report)

    def test_what_is_wrong_is_planned(self) -> None:
        cases: dict[str, Raw] = {
            "no value of the key": {"hostname": "no name"},
            "no key": {"host": "tern"},
            "a file that is not there": {"file": [{"path": "/etc/more", "from": "gone.txt"}]},
            "an owner that is not there": {"folder": [{"path": "/srv/tide", "owner": "nobody-here"}]},
        }
        text = self.image.read_text()
        for name, raw in cases.items():
            with self.subTest(name):
                self.set(self.image, raw)
                self.assertIsNone(self.short_way())
                with self.assertRaises(YarrikError):
                    self.planned()
                self.image.write_text(text)
        self.assertEqual(self.ran(self.built()), [])

    def test_a_step_that_fails_is_reported_and_nothing_is_lost(self) -> None:
        self.set(self.board, {"disk": [{"name": "card", "partition": [{**ROOT, "size": "1 MiB"}]}]})
        text = self.board.read_text()
        self.set(self.image, {"hostname": "tern"})
        report = self.built()
        self.assertEqual([one.troubles[0].code for one in report.errors], ["PARTITION-FULL"], report.errors)
        self.assertFalse(report.published)
        self.board.write_text(text.replace("1 MiB", "64 MiB"))
        report = self.built()
        self.assertEqual(report.errors, ())
        self.check_against_planning(report)

    def test_errors_in_what_it_does_not_use_are_told_as_before(self) -> None:
        self.write("w/s/recipes/broken/recipe.toml", "no = 1\n")
        self.settle()
        self.set(self.image, {"hostname": "tern"})
        report = self.built()
        self.assertIn("the definition `broken` has errors", " ".join(report.notes))
        self.assertEqual({one for one in report.advice if one.code == "DEFINITIONS-BROKEN"},
                         {one for one in self.long_way().advice if one.code == "DEFINITIONS-BROKEN"})  # fmt: skip

    def test_what_changes_while_it_is_made(self) -> None:
        """The next build sees it."""
        original = own_steps.compose

        def meanwhile(*words: Any) -> Any:
            found = original(*words)
            self.set(self.image, {"hostname": "gull"})
            return found

        self.set(self.image, {"hostname": "tern"})
        with mock.patch.object(own_steps, "compose", meanwhile):
            self.built()
        self.assertEqual(self.inside("/etc/hostname"), "tern\n")
        time.sleep(2 * SETTLED)
        self.assertIsNone(unchanged.kept_build(self.question))
        report = self.built()
        self.assertEqual(self.inside("/etc/hostname"), "gull\n")
        self.check_against_planning(report)

    def test_what_is_said_follows(self) -> None:
        """Of the shell that is not there, and of a condition that never holds, on its line."""
        text = self.image.read_text()
        self.image.write_text(text + "[[when]]\nboard = 'nowhere'\n[when.set]\nhostname = 'tern'\n")
        self.settle()
        before = unchanged.kept_build(self.question)
        assert before is not None
        self.image.write_text(f'hostname = "gull"\n\n{self.image.read_text()}')
        report, long = self.built(), self.long_way()
        self.assertLessEqual(set(long.notes), set(report.notes))
        self.assertEqual(len(set(before.notes) - set(long.notes)), 1)  # the one with the line
        self.assertEqual(report.advice[-1].place.line, long.advice[-1].place.line)

    def test_an_own_step_is_not_taken_from_the_file_of_another_plan(self) -> None:
        """Of two ways of asking each has a plan of its own."""
        other = Question(self.root, settings=("image.hostname=gull",))
        self.long_way(other)
        time.sleep(2 * SETTLED)
        self.long_way(other)
        self.set(self.image, {"sysctl": {"kernel.panic": "7"}})
        for question, name in ((self.question, "b"), (other, "gull")):
            found = unchanged.asked_before(question)
            assert isinstance(found, unchanged.FewChanges)
            session = Session(self.root)
            report = Rebuilder(session.project, found, time.monotonic()).build(None, False, silent)
            session.close()
            assert report is not None
            self.assertEqual(self.inside("/etc/hostname"), f"{name}\n")
            self.assertIn("kernel.panic = 7", self.inside("/etc/sysctl.d/50-image.conf"))

    def test_a_plan_that_is_damaged_is_planned_again(self) -> None:
        self.set(self.image, {"hostname": "tern"})
        file = self.root / ".yarrik/plans" / self.question.file.name
        plan = kept_plan.decoded_plan(file.read_bytes())
        for own in (b"", b"\x00", plan.own_steps[: len(plan.own_steps) // 2]):
            damaged = msgspec.structs.replace(plan, own_steps=own)
            with self.subTest(own[:4]), mock.patch.object(rebuilding, "decoded_plan", return_value=damaged):
                self.assertIsNone(self.short_way())
        self.built()


class WithASecret(World):
    """An account's password is a secret."""

    def test_a_setting_is_built_and_the_secret_is_nowhere(self) -> None:
        self.long_way()
        self.settle()
        image = self.root / "s/images/i.toml"
        for name in ("tern", "gull"):
            image.write_text(f'hostname = "{name}"\n' + re.sub(r"(?m)^hostname.*\n", "", image.read_text()))
            report = self.short_way()
            assert report is not None, "it was planned"
            self.assertIn("assemble p", [one.step.name for one in report.ran])
            assemble = next(one.step.action for one in report.steps if one.step.name == "assemble p")
            assert isinstance(assemble, Assemble)
            (password,) = assemble.passwords.values()
            self.assertTrue(password.startswith("$6$"))
            for file in (self.root / ".yarrik").rglob("*"):
                if file.is_file():
                    self.assertNotIn(password.encode(), file.read_bytes(), file)
                    self.assertNotIn(b"not to be seen", file.read_bytes(), file)
            time.sleep(2 * SETTLED)
        long = self.long_way()
        self.assertEqual([row.fingerprint for row in report.rows], [one.fingerprint for one in long.steps])
        self.assertEqual([one.step.name for one in long.steps if one.how != "kept"], [])

    def test_one_of_the_environment_is_not_remembered(self) -> None:
        """A digest of what follows from it would be as good as the secret, where that is short."""
        joining = "install -D -m 755 join $DESTDIR/usr/sbin/wpa_supplicant"
        self.recipe("join", joining, {"join": "#!/sbin/init\n"})
        image = self.root / "s/images/i.toml"
        image.write_text(image.read_text().replace('"tool"', '"tool", "join"'))
        self.long_way()
        self.settle()
        record = self.question.file.read_bytes()
        image.write_text(image.read_text() + "[[network]]\nname = 'wlan0'\nkind = 'wireless'\naddresses = ['10.0.0.7/24']\n"
                         "[network.wireless]\nssid = 'harbour'\nsecret = 'wireless'\n")  # fmt: skip
        with mock.patch.dict(os.environ, {"YARRIK_SECRET_WIRELESS": "low and high water"}):
            report = self.short_way()
        assert report is not None, "it was planned"
        self.assertTrue(report.published, report.errors)
        self.assertEqual(self.question.file.read_bytes(), record)

    def test_another_secret_is_planned(self) -> None:
        self.long_way()
        self.settle()
        image = self.root / "s/images/i.toml"
        image.write_text('hostname = "tern"\n' + image.read_text())
        (self.folder / "secret").write_text("another")
        self.assertIsNone(self.short_way())


class SettingsInAnyOrder(test_same_meaning.DefinitionsInAnyOrder):
    """As `ChangesInAnyOrder`, of settings from which only own steps follow, among other changes of definitions."""

    ABOUT = "definition"
    SHARE, IMAGES = 3, 6

    def changes(self) -> dict[str, Callable[[], None]]:
        chance = self.chance

        def setting(name: str, *rows: tuple[str, str]) -> Callable[[], None]:
            def change() -> None:
                file = self.root / name
                raw = tomllib.loads(file.read_text())
                for row in rows:
                    inner, (*tables, key) = raw, row[0].split(".")
                    for table in tables:
                        inner = inner.setdefault(table, {})
                    value = tomllib.loads(f"value = {row[1].replace('N', str(chance.randrange(10)))}")["value"]
                    if inner.pop(key, None) is None or chance.random() < 0.5:
                        inner[key] = value
                file.write_text(tomlkit.dumps(raw))

            return change

        found = super().changes()
        own = {
            "of the image": setting("s/images/i.toml", ("hostname", '"tern-N"'), ("values.port", '"N"')),
            "of the image's files": setting("s/images/i.toml", ("file", '[{ path = "/etc/N", content = "N" }]')),
            "of a further image": setting("s/images/rescue.toml", ("sysctl.kernel/panic", '"N"')),
            "of the board": setting("s/boards/b.toml", ("boot.seconds", "N"), ("kernel.arguments", '["port=N"]')),
            "of the base board": setting("s/boards/base.toml", ("memory.size", '"1N MiB"'), ("kernel.console", '"ttyN"')),
            "of the product": setting("products/p.toml", ("version", '"1.N"'), ("set.image.message-of-the-day", '"N"')),
            "of a variant": setting("s/variants/own.toml", ("set.board.boot.read-only", "true")),
            "that comes with a step": setting("products/p.toml", ("root-into", '["tar"]')),
        }
        names = {f"a definition: a setting {words}": change for words, change in own.items()}
        self.OFTEN = tuple(sorted(names))
        return found | names
