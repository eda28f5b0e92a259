"""Fingerprints, reasons, what a plan says, and the job budget that steps share with their tools."""

import json
import textwrap
import unittest
from unittest import mock

from tests.support import WorkspaceTest
from yarrik.cache import LastRun
from yarrik.plan import MOST_CAUSES, Graph, PrepareFolder, RunCommands, Step, assess, fingerprint_of, parts_of, reason_for


def command(**environment: str) -> RunCommands:
    return RunCommands(commands=(("make",),), environment=environment, folder="{step}", writable=(), toolchain="gcc 1")


def step(kind: str, subject: str, inputs: dict | None = None, **environment: str) -> Step:
    return Step(kind, subject, command(**environment), inputs=inputs or {})


class FingerprintsCoverEverything(unittest.TestCase):
    def test_any_setting_file_or_input_changes_it_and_places_do_not(self) -> None:
        from pathlib import Path

        base = Step("build", "x", command(A="1"), {"f": "1"}, {"i": ("build y", "o")})
        first = fingerprint_of(base, {"i": "d"})
        self.assertEqual(
            first, fingerprint_of(Step("build", "x", command(A="1"), {"f": "1"}, base.inputs, {"f": Path("/else")}), {"i": "d"})
        )
        others = [
            fingerprint_of(Step("build", "x", command(A="2"), {"f": "1"}, base.inputs), {"i": "d"}),
            fingerprint_of(Step("build", "x", command(A="1"), {"f": "2"}, base.inputs), {"i": "d"}),
            fingerprint_of(base, {"i": "e"}),
            fingerprint_of(Step("stage", "x", command(A="1"), {"f": "1"}, base.inputs), {"i": "d"}),
        ]
        self.assertEqual(len({first, *others}), 5)

    def test_an_action_that_came_to_do_something_else_is_another(self) -> None:
        one = step("build", "x", A="1")
        before, parts = fingerprint_of(one, {}), parts_of(one, {})
        with mock.patch.object(RunCommands, "REVISION", 7):
            self.assertNotEqual(fingerprint_of(one, {}), before)
            self.assertEqual(parts_of(one, {}).keys() - parts.keys(), {"setting revision of this step"})

    def test_the_order_in_which_settings_are_given_has_no_say(self) -> None:
        self.assertEqual(
            fingerprint_of(step("build", "x", A="1", B="2"), {}), fingerprint_of(step("build", "x", B="2", A="1"), {})
        )


class ReasonsNameWhatChanged(unittest.TestCase):
    def reason(self, before: Step, after: Step, was: dict[str, str], now: dict[str, str]) -> str:
        last = LastRun.of("f", parts_of(before, was), {})
        reason = reason_for(after, parts_of(after, now), last, lambda a, b: ["level.c"] if (a, b) == ("1", "2") else [])
        return reason.text if reason else ""

    def test_new_settings_sources_inputs_and_toolchain(self) -> None:
        one = step("build", "x", {"source": ("prepare x", "tree")}, CFLAGS="-O2")
        self.assertEqual(reason_for(one, parts_of(one, {"source": "1"}), None, lambda a, b: []).text, "never built here")
        self.assertEqual(self.reason(one, one, {"source": "1"}, {"source": "1"}), "")
        self.assertEqual(self.reason(one, one, {"source": "1"}, {"source": "2"}), "prepare x came out different: level.c")
        other = step("build", "x", one.inputs, CFLAGS="-Os")
        self.assertEqual(self.reason(one, other, {"source": "1"}, {"source": "1"}), "environment.CFLAGS changed: -O2 → -Os")
        fewer = step("build", "x", one.inputs)
        self.assertEqual(self.reason(one, fewer, {"source": "1"}, {"source": "1"}), "environment.CFLAGS is not set any more")
        before, after = (Step("prepare", "x", PrepareFolder(), {"source": digest}) for digest in "12")
        self.assertEqual(self.reason(before, after, {}, {}), "source changed: level.c")

    def test_which_of_many_differ(self) -> None:
        """By their paths or names, in settings that are too long to be shown; of others that they changed is all that is told."""
        paths = [{"path": f"/etc/{number}", "content": str(number)} for number in range(9)]
        other = [{**one, "content": "high"} if one["path"] in ("/etc/3", "/etc/7") else one for one in paths[1:]]
        told = {
            "files of the image changed: /etc/0, /etc/3, /etc/7": ("own", paths, other),
            "files of the image changed: /etc/0, /etc/1, /etc/2 and 6 more": ("own", paths, []),
            "disks changed: card": ("disks", [{"name": "card", "size": "1" * 90}], [{"name": "card", "size": "2"}]),
            "files of the image changed": ("own", paths, paths[::-1]),
            "words changed": ("words", ["a" * 90], ["b"]),
            "both changed": ("both", [*paths, paths[0]], paths),
            "text changed": ("text", "a" * 90, "b"),
        }
        for text, (key, before, after) in told.items():
            with self.subTest(text):
                words = [one if isinstance(one, str) else json.dumps(one) for one in (before, after)]
                last = LastRun.of("f", {f"setting {key}": words[0]}, {})
                found = reason_for(step("build", "x", {}), {f"setting {key}": words[1]}, last, lambda a, b: [])
                self.assertEqual(found and found.text, text)


class PlansTellWhatMayRun(unittest.TestCase):
    def test_what_waits_for_a_change_is_traced_back_to_it(self) -> None:
        steps = (
            Step("prepare", "lib", PrepareFolder(), {"source": "2"}, predicted={"tree": "2"}),
            step("build", "lib", {"source": ("prepare lib", "tree")}),
            step("build", "app", {"sysroot lib": ("build lib", "files")}),
            step("build", "other"),
        )
        graph = Graph("p", steps)
        last = {
            "prepare lib": LastRun.of(
                "", {"file source": "1", **{k: v for k, v in parts_of(steps[0], {}).items() if "setting" in k}}, {}
            ),
            "build lib": LastRun.of("", parts_of(steps[1], {"source": "1"}), {}),
            "build app": LastRun.of("", parts_of(steps[2], {"sysroot lib": "9"}), {}),
        }
        kept = {fingerprint_of(steps[3], {}): {"files": "5"}}
        found = assess(graph, lambda _, fingerprint: kept.get(fingerprint), last, lambda a, b: ["level.c"])
        self.assertEqual([a.verdict for a in found], ["runs", "runs", "may run", "kept"])
        self.assertEqual(found[2].reason, "if build lib comes out different")
        self.assertEqual(found[2].causes, ("lib: source changed: level.c",))

    def test_where_all_is_new_each_step_names_a_few_causes(self) -> None:
        """All that comes before a step is a cause then: in a long chain the list would be as long as the chain for each."""
        steps = [step("build", "0")]
        steps += [step("build", f"{one}", {"sysroot": (f"build {one - 1}", "files")}) for one in range(1, 200)]
        found = assess(Graph("p", tuple(steps)), lambda *_: None, {}, lambda a, b: [])
        self.assertEqual({one.verdict for one in found}, {"runs"})
        self.assertEqual(found[150].causes[:2], ("150: never built here", "149: never built here"))
        self.assertEqual({len(one.causes) for one in found[MOST_CAUSES:]}, {MOST_CAUSES})


class TheBudgetIsSharedWithTheToolsInside(WorkspaceTest):
    def test_two_makes_of_four_jobs_each_never_run_more_than_two_together(self) -> None:
        targets = " ".join(f"t{number}" for number in range(4))
        makefile = f"""
            all: {targets}
            t%:
            \tdate +%s%N > $@; sleep 0.2; date +%s%N >> $@
            install: all
            \tmkdir -p $(DESTDIR)/etc; cat {targets} > $(DESTDIR)/etc/$(NAME)
            """
        for name in ("one", "two"):
            self.recipe(name, "true", {"Makefile": textwrap.dedent(makefile).lstrip()})
            file = self.root / f"s/recipes/{name}/recipe.toml"
            text = file.read_text().replace('using = "plain"', f'using = "make"\nvariables = {{ NAME = "{name}" }}')
            file.write_text("".join(line for line in text.splitlines(True) if not line.startswith("commands =")))
        self.write("w/s/images/i.toml", 'packages = ["init", "one", "two"]\n')
        self.yarrik("build", "--jobs", "2", at=self.root)
        spans = []
        for name in ("one", "two"):
            self.yarrik("inspect", "out/p/p.img", "--extract", f"/etc/{name}", "--to", self.folder / name, at=self.root)
            text = next(path for path in (self.folder / name).rglob("*") if path.is_file()).read_text()
            times = [int(line) for line in text.split()]
            spans += list(zip(times[::2], times[1::2], strict=True))
        self.assertEqual(len(spans), 8)
        together = max(sum(start <= moment < end for start, end in spans) for moment, _ in spans)
        self.assertEqual(together, 2)


if __name__ == "__main__":
    unittest.main()
