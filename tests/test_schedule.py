"""The state machine of a build, driven without a process, a clock or a file."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from yarrik.run.schedule import (
    MENDINGS,
    PATIENCE,
    Ask,
    Claim,
    Give,
    Load,
    Look,
    Mend,
    Refill,
    Rules,
    Schedule,
    Start,
    Take,
)


def start(schedule: Schedule) -> str | None:
    """Follows instructions until a step starts; nothing is kept, all tokens are free, nobody else builds."""
    while True:
        match schedule.next():
            case Look(name):
                schedule.missing(name)
            case Take(name, least, _):
                schedule.granted(name, least)
            case Claim(name):
                schedule.claimed(name)
            case Start(name, _):
                return name
            case Mend():
                raise AssertionError("there is no damage")
            case None:
                return None


class WhatStartsWhen(unittest.TestCase):
    def test_steps_start_when_all_they_need_is_done(self) -> None:
        schedule = Schedule({"a": [], "b": [], "c": ["a", "b"], "d": ["c"]})
        self.assertEqual([start(schedule), start(schedule), start(schedule)], ["a", "b", None])
        schedule.ran("b")
        self.assertIsNone(start(schedule))
        schedule.ran("a")
        self.assertEqual(start(schedule), "c")
        self.assertFalse(schedule.over)
        schedule.ran("c")
        self.assertEqual(start(schedule), "d")
        schedule.ran("d")
        self.assertIsNone(start(schedule))
        self.assertTrue(schedule.over)

    def test_a_failure_gives_up_what_needs_it_and_nothing_else(self) -> None:
        schedule = Schedule({"a": [], "b": ["a"], "c": ["b"], "x": [], "y": ["x"]})
        schedule.failed(start(schedule))
        self.assertEqual(schedule.given_up, {"b", "c"})
        schedule.ran(start(schedule))
        self.assertEqual(start(schedule), "y")

    def test_the_first_failure_ends_the_build_unless_it_keeps_going(self) -> None:
        for keep_going in (True, False):
            schedule = Schedule({"a": [], "b": []}, {"a": 9}, Load(1), rules=Rules(keep_going=keep_going))
            schedule.failed(start(schedule))
            self.assertEqual(start(schedule), "b" if keep_going else None)
            self.assertEqual((schedule.over, schedule.given_up), (not keep_going, set() if keep_going else {"b"}))

    def test_what_everything_else_waits_for_goes_first(self) -> None:
        needs = {"small": [], "other": [], "long": [], "user": ["long"], "end": ["user", "small", "other"]}
        schedule = Schedule(needs, {"small": 2, "other": 9, "long": 5, "user": 30, "end": 1})
        self.assertEqual([start(schedule) for _ in range(3)], ["long", "other", "small"])

    def test_a_step_that_needs_much_memory_waits_for_it_but_not_for_ever(self) -> None:
        needs = {"large": [], **{f"small-{number:02}": [] for number in range(40)}}
        loads = {"large": Load(1, 8), **{name: Load(1, 2) for name in needs if name != "large"}}
        schedule = Schedule(needs, {"large": 100, "small-00": 200, "small-01": 200}, Load(4, 10), loads)
        running = [start(schedule), start(schedule)]
        self.assertEqual(running, ["small-00", "small-01"])
        order = []
        while "large" not in order:
            while (name := start(schedule)) is not None:
                running.append(name)
                order.append(name)
            schedule.ran(running.pop(0))
        self.assertLessEqual(len(order), 1 + PATIENCE)

    def test_a_step_larger_than_all_there_is_runs_alone(self) -> None:
        schedule = Schedule({"a": [], "huge": [], "b": []}, {"huge": 50}, Load(2, 4), {"huge": Load(8, 100)})
        self.assertEqual(start(schedule), "huge")
        self.assertIsNone(start(schedule))
        schedule.ran("huge")
        self.assertEqual([start(schedule), start(schedule)], ["a", "b"])


class WhereResultsComeFrom(unittest.TestCase):
    def test_shared_caches_are_asked_once_and_only_for_what_they_may_have(self) -> None:
        schedule = Schedule({"a": [], "b": []}, {"a": 9}, rules=Rules(asks={"a"}))
        self.assertEqual(schedule.next(), Look("a"))
        schedule.missing("a")
        self.assertEqual(schedule.next(), Ask("a"))
        self.assertEqual(schedule.next(), Look("b"))
        schedule.missing("b")
        self.assertEqual(start(schedule), "b")
        self.assertIsNone(start(schedule))
        schedule.missing("a")
        self.assertEqual(start(schedule), "a")

    def test_what_may_not_run_is_not_reached_and_does_not_stop_the_rest(self) -> None:
        schedule = Schedule({"a": [], "user": ["a"], "b": []}, {"a": 9}, rules=Rules(runs={"b"}, keep_going=False))
        self.assertEqual(start(schedule), "b")
        schedule.ran("b")
        self.assertIsNone(start(schedule))
        self.assertEqual((schedule.over, schedule.given_up, schedule.done), (True, {"a", "user"}, {"b"}))

    def test_what_another_process_runs_takes_no_room_and_is_looked_up_again_at_its_end(self) -> None:
        schedule = Schedule({"a": [], "b": []}, {"a": 9}, Load(1))
        self.assertEqual([schedule.next(), schedule.missing("a")], [Look("a"), None])
        self.assertEqual([schedule.next(), schedule.missing("b")], [Look("b"), None])
        self.assertEqual([schedule.next(), schedule.next()], [Refill(), Take("a", 1, 1)])
        schedule.granted("a", 1)
        self.assertEqual(schedule.next(), Claim("a"))
        schedule.held("a")
        self.assertEqual(schedule.next(), Give(1))
        self.assertEqual(start(schedule), "b")
        schedule.ran("b")
        self.assertIsNone(start(schedule))
        self.assertFalse(schedule.over)
        schedule.released("a")
        self.assertEqual((schedule.next(), schedule.elsewhere), (Look("a"), set()))
        schedule.missing("a")
        self.assertEqual(start(schedule), "a")
        schedule.released("a")  # late news change nothing
        schedule.ran("a")
        self.assertIsNone(start(schedule))
        self.assertTrue(schedule.over)


class TheJobBudget(unittest.TestCase):
    def test_a_step_whose_tools_cannot_ask_for_more_gets_what_nobody_waits_for(self) -> None:
        for others, most in ((0, 4), (1, 3), (9, 1)):
            needs = {"greedy": [], **{f"other-{number}": [] for number in range(others)}}
            schedule = Schedule(needs, {"greedy": 99}, Load(4), rules=Rules(greedy={"greedy"}))
            for name in needs:
                self.assertEqual(schedule.next(), Look(name))
                schedule.missing(name)
            self.assertEqual([schedule.next(), schedule.next()], [Refill(), Take("greedy", 1, most)])
            schedule.granted("greedy", most)
            self.assertEqual([schedule.next(), schedule.claimed("greedy")], [Claim("greedy"), None])
            self.assertEqual(schedule.next(), Start("greedy", most))
            schedule.ran("greedy")
            self.assertEqual(schedule.next(), Give(most))

    def test_without_tokens_nothing_is_tried_until_time_passes_or_a_step_ends(self) -> None:
        schedule = Schedule({"a": [], "b": [], "c": []}, {"a": 9, "b": 5})
        self.assertEqual(start(schedule), "a")
        self.assertEqual(schedule.next(), Take("b", 1, 1))
        schedule.granted("b", 0)
        self.assertIsNone(schedule.next())
        self.assertTrue(schedule.starved)
        schedule.tick()
        self.assertEqual(schedule.next(), Take("b", 1, 1))
        schedule.granted("b", 0)
        schedule.ran("a")
        self.assertEqual([schedule.next(), schedule.next(), schedule.next()], [Give(1), Refill(), Take("b", 1, 1)])


class AStop(unittest.TestCase):
    def test_nothing_starts_after_it(self) -> None:
        schedule = Schedule({"a": [], "b": [], "c": ["a"], "e": []})
        self.assertEqual(start(schedule), "a")
        self.assertEqual(schedule.next(), Take("b", 1, 1))
        schedule.granted("b", 0)
        schedule.stop()
        self.assertIsNone(start(schedule))
        schedule.ran("a")
        self.assertEqual([schedule.next(), schedule.next()], [Give(1), None])
        self.assertEqual((schedule.over, schedule.given_up), (True, {"b", "c", "e"}))

    def test_tokens_that_are_taken_or_come_too_late_are_given_back(self) -> None:
        for late in (True, False):
            schedule = Schedule({"a": []})
            self.assertEqual([schedule.next(), schedule.missing("a")], [Look("a"), None])
            self.assertEqual([schedule.next(), schedule.next()], [Refill(), Take("a", 1, 1)])
            if late:
                schedule.stop()
                schedule.granted("a", 1)
            else:
                schedule.granted("a", 1)
                schedule.stop()
            self.assertEqual([schedule.next(), schedule.next()], [Give(1), None])
            self.assertEqual((schedule.over, schedule.given_up), (True, {"a"}))

    def test_a_step_that_is_being_looked_up_may_still_be_found(self) -> None:
        for found in (True, False):
            schedule = Schedule({"a": [], "b": ["a"]}, rules=Rules(asks={"a"}))
            self.assertEqual(schedule.next(), Look("a"))
            schedule.stop()
            self.assertFalse(schedule.over)
            (schedule.kept if found else schedule.missing)("a")
            self.assertIsNone(schedule.next())
            self.assertEqual((schedule.over, schedule.done), (True, {"a"} if found else set()))


class Damage(unittest.TestCase):
    def test_it_is_mended_when_nothing_runs_and_all_begins_anew(self) -> None:
        schedule = Schedule({"a": [], "b": ["a"], "long": []}, {"long": 99}, rules=Rules(keep_going=False))
        self.assertEqual(schedule.next(), Look("long"))
        schedule.missing("long")
        self.assertEqual(schedule.next(), Look("a"))
        schedule.kept("a")
        self.assertEqual([start(schedule), start(schedule)], ["long", "b"])
        schedule.damaged("b")
        self.assertEqual([schedule.next(), schedule.next()], [Give(1), None])
        self.assertFalse(schedule.over)
        schedule.ran("long")
        self.assertEqual([schedule.next(), schedule.next()], [Give(1), Mend(("b",))])
        schedule.mended(True)
        self.assertEqual(schedule.next(), Look("long"))
        schedule.kept("long")
        self.assertEqual([start(schedule), schedule.ran("a"), start(schedule)], ["a", None, "b"])
        schedule.ran("b")
        self.assertIsNone(start(schedule))
        self.assertEqual((schedule.over, schedule.failures), (True, set()))

    def test_what_cannot_be_mended_stays_failed(self) -> None:
        for found, times in ((False, 1), (True, MENDINGS)):
            schedule = Schedule({"a": [], "b": ["a"]})
            for _ in range(times):
                self.assertEqual(start(schedule), "a")
                schedule.damaged("a")
                self.assertEqual([schedule.next(), schedule.next()], [Give(1), Mend(("a",))])
                schedule.mended(found)
            self.assertIsNone(start(schedule))
            self.assertEqual((schedule.over, schedule.failures, schedule.given_up), (True, {"a"}, {"b"}))


class ASimulatedBuild(unittest.TestCase):
    """Any world at all: results that are kept, shared or damaged, tools that take tokens, other processes, failures, a stop."""

    @settings(deadline=None, max_examples=200)
    @given(st.data())
    def test_every_step_is_settled_once_none_starts_early_and_the_budget_holds(self, data: st.DataObject) -> None:
        count = data.draw(st.integers(1, 12))
        room = Load(data.draw(st.integers(1, 4)), data.draw(st.integers(1, 8)))
        needs = {f"s{n}": [f"s{m}" for m in range(n) if data.draw(st.booleans())] for n in range(count)}
        some = st.sets(st.sampled_from(sorted(needs)))
        seconds = {name: data.draw(st.floats(0, 100)) for name in data.draw(some)}
        loads = {name: Load(data.draw(st.integers(1, 5)), data.draw(st.integers(0, 10))) for name in data.draw(some)}
        runs = data.draw(st.none() | some)
        rules = Rules(data.draw(some), runs, data.draw(some), keep_going=data.draw(st.booleans()))
        schedule = Schedule(needs, seconds, room, loads, rules)
        free, strays = room.jobs, 0  # tokens in the pipe, and those that tools have
        held: dict[str, int] = {}
        asked: list[str] = []
        running: list[str] = []
        good: set[str] = set()
        mendings = 0

        def rarely() -> bool:
            return data.draw(st.integers(0, 5)) == 5

        while not schedule.over:
            while (instruction := schedule.next()) is not None:
                match instruction:
                    case Look(name):
                        self.assertLessEqual(set(needs[name]), good)
                        if data.draw(st.booleans()):
                            schedule.kept(name)
                            good.add(name)
                        else:
                            schedule.missing(name)
                    case Ask(name):
                        self.assertIn(name, rules.asks)
                        self.assertNotIn(name, asked)
                        asked.append(name)
                    case Refill():
                        self.assertEqual((running, held), ([], {}))
                        free, strays = room.jobs, 0
                    case Take(name, least, most):
                        self.assertLessEqual(least, most)
                        taken = min(free, most)
                        if taken < least:
                            self.assertTrue(running, "with nothing running all tokens are there")
                            taken = 0
                        free -= taken
                        schedule.granted(name, taken)
                        if taken:
                            held[name] = taken
                    case Claim(name):
                        what = data.draw(st.sampled_from(["mine", "mine", "held", "kept", "failed"]))
                        if what == "mine":
                            schedule.claimed(name)
                        elif what == "held":
                            held.pop(name)
                            schedule.held(name)
                        elif what == "kept":
                            held.pop(name)
                            good.add(name)
                            schedule.kept(name)
                        else:
                            held.pop(name)
                            schedule.failed(name)
                    case Start(name, jobs):
                        self.assertTrue(runs is None or name in runs)
                        self.assertLessEqual(set(needs[name]), good)
                        self.assertEqual(jobs, held[name])
                        running.append(name)
                    case Give(tokens):
                        free += tokens
                    case Mend(names):
                        self.assertEqual((running, asked, set(names) - schedule.failures), ([], [], set()))
                        mendings += 1
                        mended = mendings < 3 and data.draw(st.booleans())
                        if mended:
                            good.clear()
                        schedule.mended(mended)
                self.assertEqual(free + strays + sum(held.values()) <= room.jobs, True)
            self.assertEqual(schedule.running, set(running))
            if len(running) > 1:
                self.assertLessEqual(sum(loads.get(name, Load()).jobs for name in running), room.jobs)
                self.assertLessEqual(sum(loads.get(name, Load()).memory for name in running), room.memory)
            if schedule.over:
                break
            self.assertTrue(running or asked or schedule.elsewhere or schedule.starved, "the build is stuck")
            moves = ["running"] * bool(running) + ["asked"] * bool(asked) + ["elsewhere"] * bool(schedule.elsewhere)
            match data.draw(st.sampled_from(moves)):
                case "asked":
                    name = asked.pop(data.draw(st.integers(0, len(asked) - 1)))
                    if data.draw(st.booleans()):
                        good.add(name)
                        schedule.kept(name)
                    else:
                        schedule.missing(name)
                case "elsewhere":
                    schedule.released(data.draw(st.sampled_from(sorted(schedule.elsewhere))))
                case "running":
                    name = running.pop(data.draw(st.integers(0, len(running) - 1)))
                    held.pop(name)
                    if rarely():
                        schedule.failed(name)
                    elif rarely():
                        schedule.damaged(name)
                    else:
                        good.add(name)
                        schedule.ran(name)
            if rarely() and free:  # a make takes a token for a job of its own, and may die with it
                free, strays = free - 1, strays + 1
            if rarely():
                schedule.tick()
            if rarely() and rarely():
                schedule.stop()
        self.assertEqual((running, held), ([], {}))
        settled = [schedule.done, schedule.failures, schedule.given_up]
        self.assertEqual(set().union(*settled), set(needs))
        self.assertEqual(sum(map(len, settled)), len(needs))
        self.assertEqual(schedule.done, good)
