"""Every key has a description and an example that fits; schemas, the reference and the terminal say the same."""

import json
import unittest
from pathlib import Path

import msgspec

import yarrik.model.definitions as definitions
from tests.support import ProgramTest
from yarrik.errors import YarrikError
from yarrik.model import FILES, Document, as_reference, convert, find_key, keys_of
from yarrik.model.checking import fields_of, find_troubles
from yarrik.model.definitions import Definable
from yarrik.model.descriptions import described_keys, description_of
from yarrik.model.reference import PLACES, example_value
from yarrik.plan import choices

TOP = Path(__file__).parent.parent
SHAPES = [
    one for one in vars(definitions).values() if isinstance(one, type) and issubclass(one, Definable) and one is not Definable
]


class EveryKeyIsDescribed(unittest.TestCase):
    def test_each_has_a_text_and_an_example_that_fits_its_shape(self) -> None:
        seen = 0
        for shape in SHAPES:
            for key in fields_of(shape):
                told = description_of(shape, key)
                self.assertIsNotNone(told, f"{shape.__name__}.{key}")
                assert told is not None
                self.assertRegex(told.text, r"^[A-Z].*[.]$", f"{shape.__name__}.{key}")
                raw = {key: example_value(told.example)}
                own = definitions.Image if shape in (definitions.When, definitions.Amendment) else None
                troubles = list(find_troubles(Document(Path("x"), raw), shape, partial=True, own=own))
                self.assertEqual([one.what for one in troubles], [], f"{shape.__name__}.{key} = {told.example}")
                seen += 1
        self.assertGreater(seen, 250)

    def test_the_table_has_no_others(self) -> None:
        known = {(shape.__name__, key) for shape in SHAPES for key in fields_of(shape)}
        names = {key for _, key in known}
        for shape, key in described_keys():
            self.assertTrue((shape, key) in known or (shape == "*" and key in names), f"{shape}.{key}")

    def test_examples_of_names_that_tables_know_are_known(self) -> None:
        known = choices()
        for shape, key, table in (
            ("BootChoice", "method", "boot method"),
            ("Partition", "filesystem", "filesystem"),
            ("Build", "using", "build system"),
        ):
            told = description_of(vars(definitions)[shape], key)
            assert told is not None
            self.assertIn(example_value(told.example), known[table])


class TheReference(unittest.TestCase):
    def test_the_page_is_written_from_it(self) -> None:
        self.assertEqual(
            (TOP / "docs/reference.md").read_text(),
            as_reference(choices()),
            "run `yarrik schema --markdown > docs/reference.md`",
        )

    def test_it_has_every_kind_and_every_table(self) -> None:
        text = as_reference(choices())
        self.assertEqual(PLACES.keys(), FILES.keys())
        for kind in FILES:
            self.assertIn(f"\n## {kind}\n", text)
        for heading in (
            "image: user",
            "image: file",
            "image: folder",
            "image: node",
            "image: root",
            "board: emulator",
            "board: disk: partition",
        ):
            self.assertIn(f"\n### {heading}\n", text)
        self.assertIn("| `strip` | true or false | `true` |", text)
        self.assertIn("| `arch` | `arm64` `arm` `riscv64` `x86-64` `host` | *required* |", text)

    def test_a_key_is_found_below_names_and_numbers(self) -> None:
        found = find_key("recipe", "package.tide.files", choices())
        assert found is not None
        self.assertIn("Paths that it takes", found.text)
        self.assertEqual(find_key("board", "disk.1.partition.2.size", choices()).default, '"fit"')  # type: ignore[union-attr]
        self.assertIsNone(find_key("board", "nothing", choices()))
        self.assertIsNone(find_key("board", "summary.nothing.x", choices()))
        defaults = {one.key: one.default for one in keys_of(definitions.Partition, choices())}
        self.assertEqual((defaults["align"], defaults["in-mbr"], defaults["label"]), ('"1 MiB"', "false", ""))

    def test_a_default_in_the_reference_is_the_one_that_counts(self) -> None:
        board = convert(Document(Path("x"), {"name": "root"}), definitions.Partition)
        for one in keys_of(definitions.Partition, choices()):
            if one.default:
                self.assertEqual(msgspec.structs.asdict(board)[one.key.replace("-", "_")], example_value(one.default), one.key)


class AtTheTerminal(ProgramTest):
    def test_schemas_keys_and_settings(self) -> None:
        schema = json.loads(self.yarrik("schema", "board"))
        console = schema["$defs"]["part-of-KernelChoice"]["properties"]["console"]
        self.assertEqual(console["examples"], ["ttyS0,115200"])
        self.assertIn("The console that programs talk to", console["description"])
        self.assertEqual(json.loads(self.yarrik("schema", "profile"))["properties"]["strip"]["default"], True)
        self.assertRegex(
            self.yarrik("schema", "board", "kernel.console"), r'type +text(.|\n)*example +console = "ttyS0,115200"'
        )
        self.assertRegex(self.yarrik("schema", "recipe", "package"), r"keys in it(.|\n)*recommends +Packages that come along")
        self.assertIn("error KEY-UNKNOWN", self.yarrik("schema", "recipe", "packag", code=2))
        self.assertRegex(self.yarrik("settings", "keys"), r"jobs +0 +How many jobs run at a time")

    def test_show_says_what_a_key_is_for(self) -> None:
        self.yarrik("demo", "demo", "--product", "tide-office", "--no-boot")
        said = self.yarrik("show", "image.marker", "--product", "tide-office", at=self.folder / "demo")
        self.assertIn("The console's line that says that the image is up.", said)


class SchemasTakeTheExamples(unittest.TestCase):
    def test_every_example_is_valid_by_the_schema_too(self) -> None:
        import jsonschema

        from yarrik.model import schema_of

        for kind in FILES:
            schema = schema_of(kind, choices())
            checker = jsonschema.Draft202012Validator(schema)
            for key, table in schema["properties"].items():
                for example in table.get("examples", ()):
                    part = {**schema, "required": [], "anyOf": [{}]}
                    errors = list(jsonschema.Draft202012Validator(part).iter_errors({key: example}))
                    self.assertEqual([error.message for error in errors], [], f"{kind}.{key}")
            checker.check_schema(schema)

    def test_errors_of_examples_would_be_seen(self) -> None:
        with self.assertRaises(YarrikError):
            convert(Document(Path("x"), {"name": "root", "size": "large"}), definitions.Partition)
