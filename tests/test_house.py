"""Rules of the house: imports run downwards, the core prints nothing, and the program starts quickly."""

import ast
import subprocess
import sys
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src/yarrik"
#: From top to bottom: a room may use those below it. The last ones are single modules.
ROOMS = ["cli", "demo", "report", "run", "manifest", "plan", "boot", "disk", "rootfs", "resolve", "devicetree", "sources", "toolchain", "host",
         "model", "objects", "elf", "cache", "atomic", "beneath", "moving", "maps", "arch", "identifiers", "units", "versions", "licences",
         "codes", "errors"]  # fmt: skip


def modules() -> list[tuple[str, Path]]:
    return [(path.relative_to(SOURCE).parts[0].removesuffix(".py"), path) for path in sorted(SOURCE.rglob("*.py"))]


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

    def test_no_modules_import_each_other_in_a_circle(self) -> None:
        paths = {".".join(("yarrik", *path.relative_to(SOURCE).with_suffix("").parts)): path for _, path in modules()}
        paths = {name.removesuffix(".__init__"): path for name, path in paths.items()}
        used: dict[str, set[str]] = {}
        for name, path in paths.items():
            nodes = [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.ImportFrom)]
            both = [(node.module or "", f"{node.module}.{alias.name}") for node in nodes for alias in node.names]
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
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertIn("demo", done.stdout)
        self.assertEqual(done.stdout.splitlines()[-1], "LOADED")

    def test_every_command_has_help_with_an_example(self) -> None:
        for command in (
            "demo",
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
        ):
            done = subprocess.run(
                [sys.executable, "-m", "yarrik", command, "--help"], capture_output=True, text=True, check=True
            )
            self.assertIn("Example", done.stdout, command)


if __name__ == "__main__":
    unittest.main()
