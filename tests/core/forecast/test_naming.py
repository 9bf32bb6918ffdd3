"""Names: as the place takes them, by pattern, without clashes, never a source."""

import os
import unicodedata
from dataclasses import replace
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.conversion import carry_out
from rumbrel.core.errors import TargetError
from rumbrel.core.forecast import (
    Action,
    ForecastOptions,
    WhenPresent,
    forecast_batch,
    gather_sources,
    walk_folder,
)
from rumbrel.core.forecast.naming import NamePool, Naming
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import FILE_SYSTEMS, file_system_for, fitted_name
from rumbrel.core.tags import TagSet, write_tags
from rumbrel.core.targets import find_target
from rumbrel.core.targets.pattern import check_pattern, empty_fields
from tests.core.forecast.case import PlanCase
from tests.marks import slow
from tests.signals import write_sound


class NameTests(PlanCase):
    @slow
    @given(st.text(max_size=80), st.sampled_from(FILE_SYSTEMS), st.sampled_from(["", " (2)"]))
    @settings(max_examples=400, deadline=None)
    def test_every_name_comes_out_as_its_place_takes_it(self, stem: str, system: object, mark: str) -> None:
        name = fitted_name(stem * 5, ".flac", system, mark=mark)  # type: ignore[arg-type]
        self.assertLessEqual(system.name_length(name), system.longest_name)  # type: ignore[attr-defined]
        self.assertFalse(set(name) & system.forbidden, name)  # type: ignore[attr-defined]
        self.assertTrue(name.endswith(f"{mark}.flac") and len(name) > len(mark) + 5)
        if system.trims_end:  # type: ignore[attr-defined]
            self.assertFalse(name.partition(".")[0].lower() in system.reserved)  # type: ignore[attr-defined]

    def test_reserved_and_hostile_names(self) -> None:
        fat = file_system_for("fat32")
        for stem, wanted in (
            ("con", "_con.mp3"), ('What? "Yes": 1/2', "What 'Yes'- 1-2.mp3"), ("end. ", "end.mp3"),
            ("a\u202egpj", "agpj.mp3"), ("\n", "_.mp3"), ("", "untitled.mp3"), ("...", "untitled.mp3"),
        ):  # fmt: skip
            self.assertEqual(fitted_name(stem, ".mp3", fat), wanted)

    def test_patterns(self) -> None:
        path = write_sound(self.folder / "x.flac", 9_000)
        fields = {
            "title": ("Slow/peal",), "album": ("..",), "track": ("3/12",), "artist": ("A. Venning",),
            "performer": ("M. Orrel (organ)",),
        }  # fmt: skip
        write_tags(path, TagSet(fields=fields), container="flac", codec="flac")
        for pattern, wanted in (
            ("{artist}/{track:02} {title}", "A. Venning/03 Slow-peal.flac"),
            ("{performer}/{players}/{title}", "A. Venning/M. Orrel (organ)/Slow-peal.flac"),
            ("{album}/{title}", "Slow-peal.flac"),
            ("{genre}/{disc:02}-{number:03}", "-001.flac"),
            ("{sample_rate}/{codec}/{stem}", "44100/flac/x.flac"),
        ):
            output = self.plan("x.flac", pattern=pattern).steps[0].output
            self.assertEqual(Path(output).relative_to(self.out).as_posix(), wanted)
        for pattern in ("{title!r}", "{0}", "{title.upper}", "{title[0]}", "a/../{title}", "{title:{track}}", "{"):
            with self.assertRaises(TargetError):
                check_pattern(pattern)

    def test_a_field_that_no_track_has_is_named(self) -> None:
        sources = [{"title": ("a",), "performer": ("b",)}, {"artist": ("c",)}]
        self.assertEqual(
            empty_fields("{performer}/{album}/{track:02} {title} {players} {stem}", sources), ("album", "track")
        )
        self.assertEqual(empty_fields("{players}/{performer}", sources[:1]), ("performer",))

    def test_places_of_few_folders_get_the_innermost_as_one(self) -> None:
        deep = "/".join(f"f{n}" for n in range(12))
        write_sound(self.folder / "in" / deep / "a.wav", 2_000)
        output = Path(self.plan("in", file_system="joliet").steps[0].output).relative_to(self.out)
        self.assertEqual(len(output.parts), 8)
        self.assertTrue(output.parts[-2].startswith("f6 - f7"))
        self.assertEqual(len(Path(self.plan("in").steps[0].output).relative_to(self.out).parts), 13)

    def test_clashes_are_numbered_also_where_case_does_not_count(self) -> None:
        for name in ("a/one.wav", "b/One.wav", "c/ONE.wav"):
            write_sound(self.folder / name, 2_000)
        sources = gather_sources([self.folder / name for name in "abc"])

        def names(system: str) -> list[str]:
            options = ForecastOptions(file_system=system)
            steps = forecast_batch(sources, find_target("archive-flac"), self.out, options=options).steps
            return [Path(step.output).name for step in steps]

        self.assertEqual(names("fat32"), ["one.flac", "One (2).flac", "ONE (3).flac"])
        self.assertEqual(names("native"), ["one.flac", "One.flac", "ONE.flac"], "they lie beside each other here")
        kind = mock.Mock(file_system="exfat")
        with mock.patch("rumbrel.core.forecast.forecast.mounted_kind", return_value=(kind, Path("/"))):
            self.assertEqual(names("native"), ["one.flac", "One (2).flac", "ONE (3).flac"], "a stick that is mounted")

    def test_a_name_that_another_system_wrote_with_its_accents_apart_is_the_same_name(self) -> None:
        write_sound(self.folder / "in" / "Größe" / "Märsche.wav", 2_000)
        sources = gather_sources([self.folder / "in"])
        apart = self.out / unicodedata.normalize("NFD", "Größe") / unicodedata.normalize("NFD", "Märsche.flac")
        apart.parent.mkdir(parents=True)
        apart.write_bytes(b"another's")
        for present, name in ((WhenPresent.SKIP, apart.name), (WhenPresent.NUMBER, "Märsche (2).flac")):
            options = ForecastOptions(when_present=present)
            (step,) = forecast_batch(sources, find_target("archive-flac"), self.out, options=options).steps
            self.assertEqual(step.action is Action.SKIP, present is WhenPresent.SKIP)
            self.assertEqual(unicodedata.normalize("NFC", Path(step.output).name), unicodedata.normalize("NFC", name))
            self.assertEqual(Path(step.output).parent, apart.parent, "no second folder of the same name")

    def test_a_source_is_never_the_place_of_a_result(self) -> None:
        source = write_sound(self.folder / "out" / "a.flac", 9_000)
        (self.folder / "link").symlink_to(self.folder / "out")
        before = source.read_bytes()
        for place in (self.folder / "out", self.folder / "link"):
            options = ForecastOptions(when_present=WhenPresent.REPLACE)
            step = forecast_batch(gather_sources([source]), find_target("archive-flac"), place, options=options).steps[
                0
            ]
            self.assertTrue(carry_out(step).ok)
            self.assertNotEqual(os.path.realpath(step.output), os.path.realpath(source))
        self.assertEqual(source.read_bytes(), before)

    def test_a_link_loop_is_walked_once(self) -> None:
        write_sound(self.folder / "in" / "a.wav", 2_000)
        (self.folder / "in" / "loop").symlink_to(self.folder / "in")
        self.assertEqual(len(gather_sources([self.folder / "in"])), 1)

    def test_a_link_to_a_file_that_is_there_is_no_second_track(self) -> None:
        own = write_sound(self.folder / "in" / "b.wav", 2_000)
        far = write_sound(self.folder / "far.wav", 2_000)
        for name, to in (("a.wav", own), ("c.wav", far), ("d.wav", far)):
            (self.folder / "in" / name).symlink_to(to)
        walk = walk_folder(self.folder / "in")
        self.assertEqual(([path.name for path in walk.files], walk.doubled), (["b.wav", "c.wav"], 2))

    def test_a_name_is_said_to_be_changed_and_why(self) -> None:
        fat = Naming(system=file_system_for("fat32"), longest=12)
        for stem, path, changed in (
            ("Peal", "Peal.mp3", False),
            ("Pe?l", "Pel.mp3", True),
            ("e\u0301", "é.mp3", False),
        ):
            self.assertEqual(fat.changed(stem, Path(path)), changed)
        self.assertEqual(fat.why_changed("Pe?l"), f"has characters that {fat.system.label} does not take")
        self.assertEqual(fat.why_changed("A long name"), "is too long for its destination")
        self.assertEqual(fat.why_changed("CON"), "is reserved on FAT32")
        self.assertEqual(fat.why_changed("Peal."), "ends or begins with a space or dot, which FAT32 does not take")
        self.assertEqual(fat.name("A long name", ".mp3"), "A long n.mp3")
        self.assertEqual(fat.numbered(Path("d/A long n.mp3"), 12), Path("d/A l (12).mp3"))

    def test_folders_never_lead_out_of_the_destination(self) -> None:
        naming = Naming()
        for folder, wanted in (("..", "_"), (".", "_"), ("...", "_"), (".a", ".a"), ("a/b", "a-b")):
            self.assertEqual(naming.folder([folder, "x"]), Path(wanted, "x"))

    def test_depth_counts_the_name_itself(self) -> None:
        system = file_system_for("joliet")
        deepest = system.deepest_folders or 0
        for count in (deepest - 1, deepest, deepest + 2):
            folders = [f"f{n}" for n in range(count)]
            parts = Naming(system=system).folder(folders).parts
            self.assertEqual(len(parts), deepest - 1)
            self.assertEqual(parts[-1], " - ".join(folders[deepest - 2 :]))

    def test_the_first_free_number_also_on_the_disk(self) -> None:
        pool = NamePool(Naming())
        path = self.folder / "a.mp3"
        path.touch()
        (self.folder / "a (3).mp3").touch()
        self.assertTrue(pool.claim(self.folder / "A (2).mp3"))
        self.assertFalse(pool.claim(self.folder / "a (2).mp3"))
        self.assertEqual(pool.claim_numbered(path, skip_existing=True).name, "a (4).mp3")
        self.assertEqual(pool.claim_numbered(path, skip_existing=False).name, "a.mp3")
        self.assertEqual(pool.claim_numbered(path, skip_existing=False).name, "a (3).mp3")

    def test_numbers_of_tags_are_ascii_digits(self) -> None:
        facts = inspect_file(write_sound(self.folder / "x.flac", 9_000))
        for text, wanted in (
            ("7", "07"),
            ("7/12", "07"),
            ("\u0667", ""),
            ("x", ""),
            ("123456", ""),
            ("12345", "12345"),
        ):
            tagged = replace(facts, tags=TagSet(fields={"track": (text,)}))
            naming = Naming(pattern="{track:02}.", addition="-c")
            parts = naming.parts(Path("in", "x.flac"), tagged, find_target("car-mp3"), 1)
            self.assertEqual(parts, ((), f"{wanted}.-c"), text)
        self.assertEqual(Naming(addition="-c").parts(Path("in", "x.flac"), facts, find_target("car-mp3"), 1),
                         (("in",), "x-c"))  # fmt: skip
