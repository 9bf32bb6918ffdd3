"""The order of a list, by property and by example; and lists from elsewhere against what is here."""

from pathlib import Path
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from rumbrel.core.errors import PlaylistError
from rumbrel.core.playlists import ListEntry
from rumbrel.core.playlists.matching import Found, KnownSound, match_entries
from rumbrel.core.playlists.ordering import (
    ListRow,
    interleaved,
    moved,
    shuffled,
    sorted_by,
    stepped,
    turned_round,
    without,
    without_doubles,
)


def rows(*tracks: int) -> list[ListRow]:
    return [ListRow(entry=number, track=track) for number, track in enumerate(tracks, 1)]


def entries(of: list[ListRow]) -> list[int]:
    return [row.entry for row in of]


LISTS = st.lists(st.integers(1, 9), min_size=1, max_size=30).map(lambda tracks: rows(*tracks))


class OrderTests(TestCase):
    @given(LISTS, st.data())
    def test_every_change_of_order_keeps_every_row(self, some: list[ListRow], data: st.DataObject) -> None:
        chosen = data.draw(st.sets(st.sampled_from(entries(some))))
        before = data.draw(st.sampled_from([None, *entries(some)]))
        way = data.draw(st.sampled_from(["up", "down", "top", "end"]))
        for after in (
            moved(some, chosen, before), stepped(some, chosen, way), turned_round(some), shuffled(some, "x"),
            interleaved(some, "album"), sorted_by(some, "title"),
        ):  # fmt: skip
            self.assertEqual(sorted(entries(after)), sorted(entries(some)))
        placed = moved(some, chosen, before)
        inside = [row for row in placed if row.entry in chosen]
        self.assertEqual(inside, [row for row in some if row.entry in chosen], "they keep their order among themselves")
        if before is not None and before not in chosen and chosen:
            self.assertEqual(placed[placed.index(inside[-1]) + 1].entry, before)

    @given(LISTS, st.text(max_size=5))
    def test_a_seed_gives_its_order_again_whatever_order_there_was(self, some: list[ListRow], seed: str) -> None:
        once = shuffled(some, seed)
        self.assertEqual([row.track for row in shuffled(turned_round(some), seed)], [row.track for row in once])
        self.assertNotEqual(
            entries(shuffled(rows(*range(1, 40)), seed)), entries(shuffled(rows(*range(1, 40)), seed + "a"))
        )

    def test_steps_by_example(self) -> None:
        some = rows(1, 2, 3, 4, 5)
        for chosen, way, wanted in (
            ({3, 5}, "up", [1, 3, 5, 2, 4]), ({3, 5}, "down", [1, 2, 4, 3, 5]), ({1}, "up", [1, 2, 3, 4, 5]),
            ({5}, "down", [1, 2, 3, 4, 5]), ({2, 4}, "top", [2, 4, 1, 3, 5]), ({2, 4}, "end", [1, 3, 5, 2, 4]),
            (set(), "end", [1, 2, 3, 4, 5]),
        ):  # fmt: skip
            self.assertEqual(entries(stepped(some, chosen, way)), wanted, (chosen, way))
        with self.assertRaisesRegex(PlaylistError, "no longer on the list"):
            moved(some, {9}, None)
        with self.assertRaisesRegex(PlaylistError, "no longer on the list"):
            moved(some, {1}, 9)

    def test_doubles_sorting_and_interleaving_by_example(self) -> None:
        self.assertEqual(entries(without_doubles(rows(7, 8, 7, 9, 8))), [1, 2, 4])
        self.assertEqual(entries(without(rows(7, 8, 9), {2, 99})), [1, 3])
        named = [
            ListRow(entry=n, track=n, title=title, performer=performer, seconds=length, year=year)
            for n, (title, performer, length, year) in enumerate(
                [("b", "Venning", 3, 0), ("", "orrel", 1, 1990), ("A", "Orrel", 2, 1980), ("c", "", 2, 1990)], 1
            )
        ]
        self.assertEqual(
            entries(sorted_by(named, "title")), [3, 1, 4, 2], "small and large letters alike, nothing last"
        )
        self.assertEqual(entries(sorted_by(named, "length")), [2, 3, 4, 1], "equal rows keep their order")
        self.assertEqual(entries(sorted_by(named, "year")), [3, 2, 4, 1])
        albums = [ListRow(entry=n, track=n, album=album) for n, album in enumerate("aaaabb", 1)]
        self.assertEqual([row.album for row in interleaved(albums, "album")], list("abaaba"))


class MatchTests(TestCase):
    def match(self, written: str, seconds: float | None = None) -> tuple[Found, int | None]:
        sounds = [
            KnownSound(1, "/srv/Tower/day 1/peal.flac", "Peal", 100.0), KnownSound(2, "/srv/Tower/day 2/peal.flac", "Peal", 50.0),
            KnownSound(3, "/srv/rolls/waltz.wav", "Waltz", 30.0),
        ]  # fmt: skip
        (found,) = match_entries([ListEntry(path=Path("/tmp/x", written), written=written, seconds=seconds)], sounds)
        return found.state, found.id

    def test_a_place_a_folder_or_a_length_proves_and_a_bare_name_of_several_does_not(self) -> None:
        for written, seconds, wanted in (
            ("/srv/Tower/day 2/peal.flac", None, (Found.FOUND, 2)),
            ("D:\\Old\\TOWER\\Day 1\\Peal.FLAC", None, (Found.FOUND, 1)),
            ("day 2/peal.mp3", None, (Found.ELSEWHERE, 2)),
            ("elsewhere/peal.flac", 51.0, (Found.ELSEWHERE, 2)),
            ("elsewhere/peal.flac", None, (Found.MISSING, None)),
            ("peal.flac", 80.0, (Found.MISSING, None)),
            ("waltz.mp3", None, (Found.ELSEWHERE, 3)),
            ("waltz.mp3", 33.0, (Found.MISSING, None)),
            ("https://station.invalid/peal.flac", None, (Found.MISSING, None)),
        ):
            self.assertEqual(self.match(written, seconds), wanted, (written, seconds))
