"""Fingerprints, reasons, what a plan says, and the scheduler's state machine."""

import textwrap
import unittest
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import WorkspaceTest
from yarrik.cache import LastRun
from yarrik.plan import Graph, PrepareFolder, RunCommands, Step, assess, fingerprint_of, parts_of, reason_for
from yarrik.resolve import Order
from yarrik.run.schedule import PATIENCE, Load, Schedule


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


class PlansTellWhatMayRun(unittest.TestCase):
    def test_what_waits_for_a_change_is_traced_back_to_it(self) -> None:
        steps = (
            Step("prepare", "lib", PrepareFolder(), {"source": "2"}, predicted={"tree": "2"}),
            step("build", "lib", {"source": ("prepare lib", "tree")}),
            step("build", "app", {"sysroot lib": ("build lib", "files")}),
            step("build", "other"),
        )
        graph = Graph("p", steps, Order((), {}, {}), {})
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


def taken(schedule: Schedule) -> str | None:
    """Looks all up that can be, without finding anything, and takes the next step that has to run."""
    while (name := schedule.look()) is not None:
        schedule.must_run(name)
    return schedule.take()


class TheScheduleNeverRunsTooEarly(unittest.TestCase):
    def test_steps_become_ready_when_all_they_need_is_done(self) -> None:
        schedule = Schedule({"a": [], "b": [], "c": ["a", "b"], "d": ["c"]})
        self.assertEqual([taken(schedule), taken(schedule), taken(schedule)], ["a", "b", None])
        schedule.finish("b")
        self.assertIsNone(taken(schedule))
        schedule.finish("a")
        self.assertEqual(taken(schedule), "c")
        self.assertFalse(schedule.over)
        schedule.finish("c")
        self.assertEqual(taken(schedule), "d")
        schedule.finish("d")
        self.assertTrue(schedule.over)

    def test_a_failure_gives_up_what_needs_it_and_nothing_else(self) -> None:
        schedule = Schedule({"a": [], "b": ["a"], "c": ["b"], "x": [], "y": ["x"]})
        schedule.fail(taken(schedule))
        self.assertEqual(schedule.given_up, {"b", "c"})
        schedule.finish(taken(schedule))
        self.assertEqual(taken(schedule), "y")

    def test_after_a_stop_nothing_more_is_handed_out(self) -> None:
        schedule = Schedule({"a": [], "b": [], "c": ["a"], "e": []})
        first, looked_up = taken(schedule), "b"
        schedule.hand_back(taken(schedule))
        schedule.stop()
        self.assertIsNone(taken(schedule))
        schedule.finish(first)
        self.assertIsNone(taken(schedule))
        self.assertEqual((schedule.over, schedule.given_up), (True, {looked_up, "c", "e"}))

    def test_what_another_process_runs_takes_no_room(self) -> None:
        schedule = Schedule({"a": [], "b": []}, {"a": 9}, Load(1))
        self.assertEqual(taken(schedule), "a")
        schedule.leave_to_others("a")
        self.assertEqual(taken(schedule), "b")
        schedule.finish("b")
        self.assertFalse(schedule.over)
        schedule.must_run("a")
        self.assertEqual((taken(schedule), schedule.elsewhere), ("a", set()))
        schedule.leave_to_others("a")
        schedule.stop()
        self.assertEqual((schedule.over, schedule.given_up), (True, {"a"}))

    def test_a_step_that_is_being_looked_up_at_a_stop_may_still_be_found(self) -> None:
        for found in (True, False):
            schedule = Schedule({"a": [], "b": ["a"]})
            name = schedule.look()
            schedule.stop()
            self.assertFalse(schedule.over)
            if found:
                schedule.finish(name)
            else:
                schedule.must_run(name)
            self.assertEqual((schedule.over, schedule.done), (True, {"a"} if found else set()))

    def test_what_everything_else_waits_for_goes_first(self) -> None:
        needs = {"small": [], "other": [], "long": [], "user": ["long"], "end": ["user", "small", "other"]}
        schedule = Schedule(needs, {"small": 2, "other": 9, "long": 5, "user": 30, "end": 1})
        self.assertEqual([taken(schedule) for _ in range(3)], ["long", "other", "small"])

    def test_a_step_that_needs_much_memory_waits_for_it_but_not_for_ever(self) -> None:
        needs = {"large": [], **{f"small-{number:02}": [] for number in range(40)}}
        loads = {"large": Load(1, 8), **{name: Load(1, 2) for name in needs if name != "large"}}
        schedule = Schedule(needs, {"large": 100, "small-00": 200, "small-01": 200}, Load(4, 10), loads)
        running = [taken(schedule), taken(schedule)]
        self.assertEqual(running, ["small-00", "small-01"])
        order = []
        while "large" not in order:
            while (name := taken(schedule)) is not None:
                running.append(name)
                order.append(name)
            schedule.finish(running.pop(0))
        self.assertLessEqual(len(order), 1 + PATIENCE)

    def test_a_step_larger_than_all_there_is_runs_alone(self) -> None:
        schedule = Schedule({"a": [], "huge": [], "b": []}, {"huge": 50}, Load(2, 4), {"huge": Load(8, 100)})
        self.assertEqual(taken(schedule), "huge")
        self.assertIsNone(taken(schedule))
        schedule.finish("huge")
        self.assertEqual([taken(schedule), taken(schedule)], ["a", "b"])

    @settings(deadline=None)
    @given(st.data())
    def test_no_step_twice_none_before_its_needs_none_lost_and_the_budget_is_never_exceeded(self, data: st.DataObject) -> None:
        count = data.draw(st.integers(1, 12))
        room = Load(data.draw(st.integers(1, 4)), data.draw(st.integers(1, 8)))
        needs = {f"s{n}": [f"s{m}" for m in range(n) if data.draw(st.booleans())] for n in range(count)}
        seconds = {name: data.draw(st.floats(0, 100)) for name in needs if data.draw(st.booleans())}
        loads = {
            name: Load(data.draw(st.integers(1, 5)), data.draw(st.integers(0, 10)))
            for name in needs
            if data.draw(st.booleans())
        }
        keep_going = data.draw(st.booleans())
        schedule = Schedule(needs, seconds, room, loads)
        asked: list[str] = []
        running: list[str] = []
        ran: list[str] = []
        looked_at: list[str] = []
        while not schedule.over:
            while (name := schedule.look()) is not None:
                self.assertLessEqual(set(needs[name]), schedule.done)
                looked_at.append(name)
                what = data.draw(st.sampled_from(["kept", "asked", "to run"]))
                if what == "kept":
                    schedule.finish(name)
                elif what == "asked":
                    asked.append(name)
                else:
                    schedule.must_run(name)
            while (name := schedule.take()) is not None:
                if data.draw(st.integers(0, 9)) == 0 and running:
                    schedule.hand_back(name)
                    break
                if data.draw(st.integers(0, 5)) == 0:
                    schedule.leave_to_others(name)
                    continue
                ran.append(name)
                running.append(name)
            self.assertEqual(schedule.running, set(running))
            if len(running) > 1:
                self.assertLessEqual(sum(loads.get(name, Load()).jobs for name in running), room.jobs)
                self.assertLessEqual(sum(loads.get(name, Load()).memory for name in running), room.memory)
            if (asked and data.draw(st.booleans())) or (not running and asked):
                name = asked.pop(data.draw(st.integers(0, len(asked) - 1)))
                if data.draw(st.booleans()):
                    schedule.finish(name)
                else:
                    schedule.must_run(name)
            elif schedule.elsewhere and (not running or data.draw(st.booleans())):
                name = data.draw(st.sampled_from(sorted(schedule.elsewhere)))
                if data.draw(st.booleans()):
                    schedule.finish(name)
                else:
                    schedule.must_run(name)
            elif running:
                name = running.pop(data.draw(st.integers(0, len(running) - 1)))
                if data.draw(st.integers(0, 5)) == 0:
                    schedule.fail(name)
                    if not keep_going:
                        schedule.stop()
                else:
                    schedule.finish(name)
        self.assertEqual(len(ran), len(set(ran)))
        self.assertEqual(len(looked_at), len(set(looked_at)))
        self.assertLessEqual(set(ran), schedule.done | schedule.failed)
        self.assertEqual(schedule.done | schedule.failed | schedule.given_up, set(needs))
        self.assertFalse(schedule.done & schedule.given_up)
        if keep_going or not schedule.failed:  # what does not need a failed step is done
            for name in schedule.given_up:
                self.assertTrue(set(needs[name]) & (schedule.failed | schedule.given_up))


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
