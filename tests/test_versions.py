"""Versions and wishes: the documented order, and what it has to be for any text."""

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from yarrik.versions import Version, parse_requirement, parse_wish

PIECES = st.lists(
    st.sampled_from(
        ["0", "1", "2", "10", "07", "rc", "beta", "a", "w", "git", "g0a1b2c3", ".", "-", "+", "_", "~", "2026-01-02"]
    ),
    min_size=1,
    max_size=7,
).map(lambda pieces: "1" + "".join(pieces))


class VersionsHaveAnOrder(unittest.TestCase):
    def test_as_engineers_expect(self) -> None:
        for line in (
            "1.9 1.10 1.10.1 2",
            "2.0~x 2.0-dev3 2.0-alpha1 2.0beta2 2.0-rc1 2.0-rc2 2.0-rc10 2.0 2.0a 2.0-1 2.0-14-g0a1b2c3 2.0.1-rc1 2.0.1 2.1",
            "2023.12.31 2024-01-15 2024.2 20240115",
            "1.1 1.1v 1.1w 1.1.1 1.1.1a",
            "6.1 6.1.99 6.6",
            "1.2 1.2-3-g0000001 1.2-14-g0a1b2c3 1.2.1",
        ):
            versions = [Version(text) for text in line.split()]
            for low, high in itertools.combinations(versions, 2):
                self.assertLess(low, high)
                self.assertGreater(high, low)

    def test_the_same_version_in_other_words(self) -> None:
        for left, right in (
            ("1.0", "1.0.0"),
            ("v2.1", "2.1"),
            ("1.0-rc1", "1.0.0rc1"),
            ("2026-01-02", "2026.1.2"),
            ("1.07", "1.7"),
        ):
            self.assertEqual(Version(left), Version(right))
            self.assertEqual(hash(Version(left)), hash(Version(right)))

    @given(PIECES, PIECES, PIECES)
    def test_it_is_total_and_transitive(self, first: str, second: str, third: str) -> None:
        a, b, c = sorted([Version(first), Version(second), Version(third)])
        self.assertTrue(a <= b <= c and a <= c)
        self.assertEqual(sum((a < b, a == b, a > b)), 1)

    def test_what_is_no_version_is_refused(self) -> None:
        for text in ("", "-1", "1 2", "1/2", "1" * 129, "ü"):
            with self.assertRaises(ValueError, msg=text):
                Version(text)


class WishesAllowVersions(unittest.TestCase):
    def test_each_operator(self) -> None:
        for wish, yes, no in (
            (">= 2, < 3", "2 2.0.1 2.9.9", "1.9 3 3.0-rc1 2-rc1"),
            ("~ 2.3", "2.3 2.3.1 2.3.40 2.3-rc1", "2.4 2.2.9 2.30 3"),
            ("~ 2.0", "2 2.0 2.0.7 2-rc1", "2.1 3"),
            ("~ 2", "2 2.1 2.99", "1.9 3 20"),
            ("== 1.0", "1.0.0 1", "1.0.1 1.0-rc1"),
            ("!= 1.0", "1.1", "1"),
            ("> 1.0, <= 2", "1.0.1 2.0", "1 2.0.1"),
            ("< 3.0-rc2", "3.0-rc1 2", "3.0-rc2 3"),
            ("", "1 2-rc1", ""),
        ):
            for text in yes.split():
                self.assertTrue(parse_wish(wish).allows(Version(text)), f"{wish} allows {text}")
            for text in no.split():
                self.assertFalse(parse_wish(wish).allows(Version(text)), f"{wish} does not allow {text}")

    @given(PIECES, PIECES)
    def test_opposite_operators_share_nothing(self, bound: str, text: str) -> None:
        version = Version(text)
        for low, high in (("<", ">="), ("<=", ">"), ("==", "!=")):
            both = [parse_wish(f"{operator} {bound}").allows(version) for operator in (low, high)]
            self.assertLessEqual(sum(both), 1)

    def test_requirements_have_options_and_versions(self) -> None:
        need = parse_requirement("libplot[png,-x11]>=2, < 3")
        self.assertEqual((need.name, need.options, str(need.wish)), ("libplot", (("png", True), ("x11", False)), ">= 2, < 3"))
        self.assertEqual(str(need), "libplot[png,-x11] >= 2, < 3")
        self.assertEqual(str(parse_requirement("@display")), "@display")

    def test_what_is_wrong_is_named(self) -> None:
        for text, words in (("libtide => 2", "`=> 2` is not a version requirement"), ("a[b", "is not a need"), ("a[b,-b]", "both on and off"),
                            ("a[B]", "`B` in"), ("a > ", "`>` is not a version requirement"), ("a ^ 2", "is not a need")):  # fmt: skip
            with self.assertRaises(ValueError) as caught:
                parse_requirement(text)
            self.assertIn(words, str(caught.exception))


if __name__ == "__main__":
    unittest.main()
