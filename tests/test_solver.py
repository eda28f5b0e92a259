"""The solver: against brute force on random universes, for any order, with proofs that hold by themselves."""

import itertools
import random
import unittest
from collections.abc import Callable, Sequence

from tests.universes import answer_in_parts, composition_of, every_choice, is_fine, random_recipes
from yarrik.errors import YarrikError
from yarrik.resolve import resolve
from yarrik.resolve.solver import Clause, Impossible, TooHard, solve


class Random:
    """A few variables with random clauses of two to four terms; every clause is given with each candidate it speaks of."""

    def __init__(self, seed: int) -> None:
        chance = random.Random(seed)
        self.count = chance.randint(2, 5)
        self.sizes = [chance.randint(2, 4) for _ in range(self.count)]
        self.all: list[Clause] = []
        for variable in range(self.count):
            for candidate in range(1, self.sizes[variable]):
                for _ in range(chance.randint(0, 3)):
                    others = chance.sample([one for one in range(self.count) if one != variable],
                                           min(chance.choice([1, 1, 1, 2, 3]), self.count - 1))  # fmt: skip
                    own = 1 << candidate | (1 << chance.randrange(1, self.sizes[variable]) if chance.random() < 0.3 else 0)
                    terms = ((other, chance.randint(1, (1 << self.sizes[other]) - 1)) for other in others)
                    self.all.append(Clause(((variable, own), *terms), "given"))
        self.roots = [
            Clause(((variable, 1),), "root") for variable in chance.sample(range(self.count), chance.randint(1, self.count))
        ]

    def size(self, variable: int) -> int:
        return self.sizes[variable]

    def rank(self, variable: int) -> int:
        return variable % 2

    def wishes(self, variable: int, candidate: int) -> Sequence[int]:
        return ()

    def pick(self, variable: int, allowed: int, chosen: Callable[[int], int]) -> int:
        return allowed.bit_length() - 1

    def clauses(self, variable: int, candidate: int) -> list[Clause]:
        return [clause for clause in self.all if clause.terms[0][0] == variable and clause.terms[0][1] >> candidate & 1]

    def holds(self, clauses: Sequence[Clause], choice: Sequence[int]) -> bool:
        return not any(all(members >> choice[variable] & 1 for variable, members in clause.terms) for clause in clauses)

    def possible(self, clauses: Sequence[Clause]) -> bool:
        return any(self.holds(clauses, choice) for choice in itertools.product(*map(range, self.sizes)))


class AnswersAreRight(unittest.TestCase):
    def test_ten_thousand_universes_agree_with_brute_force(self) -> None:
        impossible = 0
        for seed in range(10_000):
            universe = Random(seed)
            clauses = [*universe.roots, *universe.all]
            try:
                found = solve(universe, universe.roots)
            except Impossible as error:
                impossible += 1
                self.assertFalse(universe.possible(clauses), seed)
                # What it says cannot hold together does not, whatever else there is.
                self.assertFalse(universe.possible(error.clauses), seed)
            else:
                choice = [found.get(variable, 0) for variable in range(universe.count)]
                self.assertTrue(universe.holds(clauses, choice), seed)
        self.assertGreater(impossible, 2000)
        self.assertLess(impossible, 8000)

    def test_a_wish_is_fulfilled_where_it_can_be_and_dropped_where_not(self) -> None:
        class Wishing(Random):
            def __init__(self, clauses: list[Clause]) -> None:
                self.count, self.sizes, self.all, self.roots = 3, [2, 2, 2], clauses, [Clause(((0, 1),), "root")]

            def wishes(self, variable: int, candidate: int) -> Sequence[int]:
                return (1, 2) if variable == 0 else ()

        self.assertEqual(solve(Wishing([]), [Clause(((0, 1),))]), {0: 1, 1: 1, 2: 1})
        self.assertEqual(solve(Wishing([Clause(((0, 2), (1, 2)))]), [Clause(((0, 1),))]), {0: 1, 2: 1})
        self.assertEqual(len(solve(Wishing([Clause(((1, 2), (2, 2)))]), [Clause(((0, 1),))])), 2)

    def test_the_limit_of_conflicts_ends_the_search(self) -> None:
        class Pigeons(Random):
            """Seven birds in six holes: impossible, and long to prove."""

            def __init__(self) -> None:
                self.count, self.sizes, self.roots = 7, [7] * 7, [Clause(((bird, 1),)) for bird in range(7)]
                self.all = [Clause(((bird, 1 << hole), (other, 1 << hole)))
                            for bird in range(7) for other in range(7) if other != bird for hole in range(1, 7)]  # fmt: skip

        with self.assertRaises(TooHard):
            solve(Pigeons(), Pigeons().roots, limit=20)
        with self.assertRaises(Impossible):
            solve(Pigeons(), Pigeons().roots)


class ProductsResolve(unittest.TestCase):
    def test_random_workspaces_agree_with_a_checker_that_shares_nothing_with_the_solver(self) -> None:
        impossible = 0
        for seed in range(1200):
            recipes, image = random_recipes(random.Random(seed))
            try:
                answer = resolve(composition_of(recipes, image))
            except YarrikError as error:
                impossible += 1
                self.assertFalse(any(is_fine(recipes, image, *choice) for choice in every_choice(recipes)), (seed, str(error)))
                continue
            self.assertTrue(is_fine(recipes, image, *answer_in_parts(answer, recipes)), seed)
            # Nothing is there without a reason.
            for thing in answer.things():
                if thing.kind in ("recipe", "package", "role"):
                    self.assertTrue(answer.ways_to(thing), (seed, str(thing)))
        self.assertGreater(impossible, 100)

    def test_the_order_of_what_is_written_does_not_matter(self) -> None:
        for seed in range(200):
            recipes, image = random_recipes(random.Random(seed))
            turned = {name: self.turned(recipes[name]) for name in reversed(recipes)}
            outcomes = []
            for some, packages in ((recipes, image["packages"]), (turned, image["packages"][::-1])):
                try:
                    answer = resolve(composition_of(some, {**image, "packages": packages}))
                    outcomes.append(str((answer.versions, answer.options, answer.packages, answer.roles)))
                except YarrikError as error:
                    outcomes.append(str([(trouble.code, trouble.what, trouble.remedy) for trouble in error.troubles]))
            self.assertEqual(outcomes[0], outcomes[1], seed)

    def turned(self, value: object) -> object:
        """The same with lists and tables the other way round, but for versions' own meaning."""
        if isinstance(value, dict):
            return {key: self.turned(value[key]) for key in reversed(value)}
        return value[::-1] if isinstance(value, list) and all(isinstance(one, str) for one in value) else value


if __name__ == "__main__":
    unittest.main()
