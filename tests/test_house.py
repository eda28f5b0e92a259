"""Rules of the house: imports run downwards, the core prints nothing, and the program starts quickly."""

import ast
import importlib
import os
import subprocess
import sys
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src/yarrik"
#: From top to bottom: a room may use those below it. The last ones are single modules.
ROOMS = ["cli", "demo", "starter", "report", "run", "flash", "console", "netboot", "update", "manifest", "plan", "boot", "disk", "network", "services", "rootfs", "resolve", "devicetree", "sources", "toolchain", "host",
         "model", "objects", "elf", "cache", "binary", "binary_tables", "arrays", "atomic", "locks", "beneath", "moving", "maps", "arch", "identifiers", "own_code",
         "units", "versions", "capabilities", "kernel_calls", "licences", "code_help", "codes", "errors", "patterns", "front_door"]  # fmt: skip


def modules() -> list[tuple[str, Path]]:
    return [(path.relative_to(SOURCE).parts[0].removesuffix(".py"), path) for path in sorted(SOURCE.rglob("*.py"))]


def front_doors() -> dict[str, dict[str, str]]:
    """What each room offers to the others: its names, each with the module that has it, as its `__init__.pyi` says."""
    doors: dict[str, dict[str, str]] = {}
    for stub in sorted(SOURCE.glob("*/__init__.pyi")):
        room = stub.parent.name
        nodes = [node for node in ast.parse(stub.read_text()).body if isinstance(node, ast.ImportFrom)]
        doors[room] = {alias.name: f"yarrik.{room}.{node.module}" for node in nodes for alias in node.names}
    return doors


class TheHouseKeepsItsRules(unittest.TestCase):
    def test_imports_run_downwards_only(self) -> None:
        seen = 0
        for room, path in modules():
            if room in ("__init__", "__main__"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                names = [node.module] if isinstance(node, ast.ImportFrom) else []
                names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
                for name in names:
                    if name and name.startswith("yarrik."):
                        used = name.split(".")[1]
                        seen += 1
                        self.assertGreaterEqual(ROOMS.index(used), ROOMS.index(room), f"{path} uses {name}")
        self.assertGreater(seen, 100)

    def test_rooms_use_each_other_through_the_front_door(self) -> None:
        doors = front_doors()
        used: set[tuple[str, str]] = set()
        for room, path in modules():
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("yarrik."):
                    other, *inside = (node.module or "").split(".")[1:]
                    if other in doors and other != room:
                        self.assertEqual(inside, [], f"{path} goes around the front door of {other}")
                        used |= {(other, alias.name) for alias in node.names}
        self.assertGreater(len(used), 200)
        for room, names in doors.items():
            for name, module in names.items():
                self.assertTrue(hasattr(importlib.import_module(module), name), f"{room}: {name}")
                # An import of the module would hide the name.
                self.assertFalse(list((SOURCE / room).glob(name)) + list((SOURCE / room).glob(f"{name}.py")), f"{room}: {name}")
            # The stub is what type checkers read, and what is loaded.
            self.assertEqual(sorted(importlib.import_module(f"yarrik.{room}").__all__), sorted(names))

    def test_no_modules_import_each_other_in_a_circle(self) -> None:
        paths = {".".join(("yarrik", *path.relative_to(SOURCE).with_suffix("").parts)): path for _, path in modules()}
        paths = {name.removesuffix(".__init__"): path for name, path in paths.items()}
        used: dict[str, set[str]] = {}
        doors = front_doors()
        for name, path in paths.items():
            nodes = [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ImportFrom)]
            both = [(node.module or "", f"{node.module}.{alias.name}") for node in nodes for alias in node.names]
            # A name of a front door stands for the module that has it.
            both = [(doors.get(module.removeprefix("yarrik."), {}).get(full.rpartition(".")[2], module), full)
                    for module, full in both]  # fmt: skip
            used[name] = {longer if longer in paths else shorter for shorter, longer in both} & paths.keys() - {name}
        self.assertGreater(sum(map(len, used.values())), 500)
        try:
            TopologicalSorter(used).prepare()
        except CycleError as error:
            self.fail(f"modules that import each other: {error.args[1]}")

    def test_only_the_command_line_prints_or_reads_the_terminal(self) -> None:
        for room, path in modules():
            if room in ("cli", "__main__"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                    self.assertNotIn(node.func.id, ("print", "input"), path)
                if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "sys":
                    self.assertNotIn(node.attr, ("stdout", "stdin", "argv"), path)

    def test_help_loads_nothing_heavy(self) -> None:
        script = (
            "import sys; sys.argv = ['yarrik', '--help']\n"
            "import yarrik.cli\n"
            "try:\n    yarrik.cli.main()\nexcept SystemExit:\n    pass\n"
            "print('LOADED', *[m for m in ('elftools', 'google_crc32c', 'license_expression', 'matplotlib', 'numpy', 'sqlite3', 'tarfile', 'tomli') if m in sys.modules])"
        )
        # What measures coverage loads modules of its own.
        plain = {name: value for name, value in os.environ.items() if not name.startswith("COVERAGE_")}
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True, env=plain)
        self.assertIn("demo", done.stdout)
        self.assertEqual(done.stdout.splitlines()[-1], "LOADED")

    def test_no_commands_help_loads_anything_heavy(self) -> None:
        from yarrik.cli import MODULES

        heavy = ("cryptography", "elftools", "matplotlib", "numpy", "pandas", "scipy", "serial", "sqlite3", "zstandard")
        script = (
            "import sys\nimport yarrik.cli\n"
            "try:\n    yarrik.cli.main()\nexcept SystemExit:\n    pass\n"
            f"print('LOADED', *[m for m in {heavy!r} if m in sys.modules])"
        )
        plain = {name: value for name, value in os.environ.items() if not name.startswith("COVERAGE_")}
        for command in sorted(command for commands in MODULES.values() for command in commands):
            done = subprocess.run(
                [sys.executable, "-c", script, command, "--help"], capture_output=True, text=True, check=True, env=plain
            )
            self.assertEqual(done.stdout.splitlines()[-1], "LOADED", command)

    def test_numpy_starts_no_threads_and_what_we_start_does_not_know(self) -> None:
        script = (
            "import os\nfrom yarrik.arrays import numpy\nassert (numpy.arange(3) + 1).sum() == 6\n"
            "print(len(os.listdir('/proc/self/task')), os.environ.get('OPENBLAS_NUM_THREADS'))"
        )
        for before in ("2", None):
            plain = {name: value for name, value in os.environ.items() if name != "OPENBLAS_NUM_THREADS"}
            plain |= {} if before is None else {"OPENBLAS_NUM_THREADS": before}
            done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True, env=plain)
            self.assertEqual(done.stdout.split(), ["1", str(before)])
        for _, path in modules():
            if path.name != "arrays.py":
                self.assertNotRegex(path.read_text(), r"(?m)^\s*(?:import numpy|from numpy)", path)

    def test_the_list_of_commands_is_the_same_with_and_without_their_parameters(self) -> None:
        script = "import sys, yarrik.cli\nif {}: yarrik.cli._without_parameters = lambda app: None\nyarrik.cli.main()"
        for words in (["--help"], ["-h"], []):
            said = [subprocess.run([sys.executable, "-c", script.format(whole), *words], capture_output=True, check=False)
                    for whole in (True, False)]  # fmt: skip
            self.assertEqual(said[0].stdout, said[1].stdout)
            self.assertEqual(said[0].returncode, said[1].returncode)
            self.assertIn(b"update", said[0].stdout)

    def test_every_command_has_help_with_an_example(self) -> None:
        for command in (
            "demo",
            "new",
            "shelf",
            "settings",
            "check",
            "build",
            "plan",
            "boot",
            "inspect",
            "pack",
            "log",
            "show",
            "resolve",
            "why",
            "why-not",
            "find",
            "schema",
            "enter",
            "timeline",
            "prove",
            "cache",
            "update",
        ):
            done = subprocess.run(
                [sys.executable, "-m", "yarrik", command, "--help"], capture_output=True, text=True, check=True
            )
            self.assertIn("Example", done.stdout, command)


if __name__ == "__main__":
    unittest.main()


class TheProgramLoadsWhatACommandNeeds(unittest.TestCase):
    def test_the_table_has_every_command_in_its_module(self) -> None:
        from yarrik.cli import MODULES

        self.assertEqual(set(MODULES) | {"__init__", "faults", "options", "terminal", "view", "choose_view", "inside"},
                         {path.stem for path in (SOURCE / "cli").glob("*.py")})  # fmt: skip
        for module, commands in MODULES.items():
            text = (SOURCE / f"cli/{module}.py").read_text()
            nodes = [node for node in ast.walk(ast.parse(text)) if isinstance(node, ast.Call)]
            named = {keyword.value.value for node in nodes if ast.unparse(node.func) == "app.add_typer"
                     for keyword in node.keywords if keyword.arg == "name" and isinstance(keyword.value, ast.Constant)}  # fmt: skip
            for node in ast.walk(ast.parse(text)):
                for decorator in getattr(node, "decorator_list", ()):
                    if isinstance(decorator, ast.Call) and ast.unparse(decorator.func) == "app.command":
                        first = (
                            decorator.args[0].value if decorator.args and isinstance(decorator.args[0], ast.Constant) else None
                        )
                        named.add(first or node.name.replace("_", "-"))  # type: ignore[attr-defined]
            self.assertEqual(named, set(commands), module)

    def test_help_lists_all_and_unknown_words_are_answered(self) -> None:
        from yarrik.cli import MODULES, _modules_for

        self.assertEqual(_modules_for(["find", "--help"], {}), ["find"])
        for words, environment in (
            ([], {}),
            (["--help"], {}),
            (["fnid"], {}),
            (["find"], {"_YARRIK_COMPLETE": "complete_bash"}),
            ([], {"_YARRIK_COMPLETE": "complete_bash", "COMP_WORDS": "yarrik find"}),
            ([], {"_YARRIK_COMPLETE": "complete_zsh", "_TYPER_COMPLETE_ARGS": "yarrik "}),
        ):
            self.assertEqual(_modules_for(words, environment), list(MODULES), words)
        for environment in (
            {"_YARRIK_COMPLETE": "complete_bash", "COMP_WORDS": "yarrik build  --with "},
            {"_YARRIK_COMPLETE": "complete_zsh", "_TYPER_COMPLETE_ARGS": "yarrik build tide"},
        ):
            self.assertEqual(_modules_for([], environment), ["build"])
        done = subprocess.run([sys.executable, "-m", "yarrik", "--help"], capture_output=True, text=True, check=True)
        for commands in MODULES.values():
            for command in commands:
                self.assertIn(f" {command} ", done.stdout)
        done = subprocess.run([sys.executable, "-m", "yarrik", "fnid"], capture_output=True, text=True, check=False)
        self.assertIn("find", done.stderr)
