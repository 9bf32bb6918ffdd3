"""Whole ways through a batch in the real interface: from files to results that independent readers take."""

import os
import re
import signal
import subprocess
import zipfile
from pathlib import Path

import av
import mutagen
import soundfile
from playwright.sync_api import Page, expect

from rumbrel.core.inspection import inspect_deep, inspect_file
from tests.marks import slow
from tests.signals import music, write_film, write_framed, write_sound

from .test_walk import A_WHILE_MS, FolderCase

_WIDE = {"width": 1280, "height": 800}


class WayCase(FolderCase):
    own = "ways"

    def gathered(self, name: str, count: int) -> Page:
        """The forecast of the tracks of a folder of the demo's place, and of nothing else."""
        said = f"done: {count} track"
        page = self.page_with(self.instance.data / "demo" / name, said)
        page.goto(f"{self.instance.address}/?text={name}")
        if page.get_by_role("button", name="Clear the pull list").is_visible():
            page.get_by_role("button", name="Clear the pull list").click()
            page.goto(f"{self.instance.address}/?text={name}")
        page.get_by_role("button", name=f"Pull all {count}").click() if count > 1 else page.locator(
            "[data-pull]"
        ).first.click()
        expect(page.locator("#pull")).to_contain_text(f"{count} track")
        page.goto(f"{self.instance.address}/batches/forecast/")
        return page

    def finished(self, page: Page) -> Page:
        page.get_by_role("button", name="Start batch").click()
        expect(page.locator("#batch[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        return page

    def choose(self, page: Page, label: str, value: str) -> None:
        """Choose in the sentence, whose choices take effect at once."""
        with page.expect_navigation():
            page.get_by_label(label, exact=True).select_option(value)


@slow
class WayTests(WayCase):
    def test_twenty_mixed_files_beside_their_originals(self) -> None:
        folder = self.instance.data / "demo" / "Mixedbag"
        for number in range(10):
            write_sound(folder / "one" / f"Mixedbag {number:02}.flac", 40_000, seed=number)
            write_sound(folder / "two" / f"Mixedbag {number:02}.wav", 50_000, seed=number)
        before = {path: path.read_bytes() for path in folder.rglob("*.*")}
        page = self.gathered("Mixedbag", 20)
        self.choose(page, "Destination", "beside")
        expect(page.locator(".counts")).to_contain_text("20 convert")
        self.finished(page)
        expect(page.locator("#batch")).to_contain_text("beside the originals")
        made = sorted(folder.rglob("*.mp3"))
        self.assertEqual([path.stem for path in made], [f"Mixedbag {number:02}" for number in range(10)] * 2)
        for path in made:
            found = mutagen.File(path).info
            self.assertEqual((round(found.bitrate / 1000), found.sample_rate), (320, 44_100))
        self.assertEqual({path: path.read_bytes() for path in before}, before)
        self.assertEqual(self.faults, [])

    def test_the_sound_of_a_film_keeps_its_length(self) -> None:
        folder = self.instance.data / "demo" / "Filmed"
        folder.mkdir(parents=True)
        write_film(folder / "Filmed walk.mp4", seconds=7)
        page = self.gathered("Filmed", 1)
        self.finished(page)
        with page.expect_download() as download:
            page.locator("#items a[title^='Download']").click()
        path = Path(download.value.path())
        with soundfile.SoundFile(path) as sound, av.open(str(folder / "Filmed walk.mp4")) as film:
            stream = film.streams.audio[0]
            self.assertAlmostEqual(len(sound) / sound.samplerate, float(stream.duration * stream.time_base), delta=0.06)
        self.assertEqual(self.faults, [])

    def test_prompts_for_the_telephone_are_heard_and_come_as_one_archive(self) -> None:
        folder = self.instance.data / "demo" / "Prompted"
        for number in range(3):
            write_sound(folder / f"Prompted {number}.wav", 60_000, seed=number, channels=1)
        page = self.gathered("Prompted", 3)
        self.choose(page, "Target", "phone-ulaw")
        expect(page.locator("tbody").last).to_contain_text("mu-law 8 64")
        page.get_by_role("link", name="Preview...").click()
        page.get_by_role("button", name="Make and listen").click()
        expect(page.locator("[data-compare]")).to_be_visible(timeout=A_WHILE_MS)
        page.locator("[data-compare][data-at]").wait_for()
        page.keyboard.press("Space")
        expect(page.locator("[data-compare]")).to_have_attribute("data-playing", "true", timeout=A_WHILE_MS)
        page.keyboard.press("2")
        expect(page.locator("[data-heard-voice]")).to_have_text("Telephone line, mu-law, as forecast")
        page.go_back()
        page.goto(f"{self.instance.address}/batches/forecast/?target=phone-ulaw")
        self.finished(page)
        with page.expect_download() as download:
            page.get_by_role("link", name="Download all").click()
        with zipfile.ZipFile(download.value.path()) as archive:
            names = [name for name in archive.namelist() if name != "digests.sha256"]
            self.assertEqual(len(names), 3)
            for name in names:
                with archive.open(name) as file, soundfile.SoundFile(file) as sound:
                    self.assertEqual((sound.subtype, sound.samplerate, sound.channels), ("ULAW", 8000, 1))
        self.assertEqual(self.faults, [])

    def test_a_delivery_says_which_file_fails_it_and_why(self) -> None:
        folder = self.instance.data / "demo" / "Delivered"
        for number in range(3):
            write_sound(folder / f"Delivered {number}.wav", 130_000, seed=number)
        write_framed(folder / "Delivered elsewhere.mp3", "libmp3lame", muxer="mp3", rate=48_000, seconds=3)
        page = self.gathered("Delivered", 4)
        page.goto(f"{self.instance.address}/targets/radio-mp3/")
        page.get_by_role("button", name="Check pulled files").click()
        expect(page.locator("#specification .sentence")).to_contain_text("0 meet it, 4 do not", timeout=A_WHILE_MS)
        elsewhere = page.locator(".spec", has_text="Delivered elsewhere")
        expect(elsewhere.locator("tr", has_text="Sample rate, kHz")).to_contain_text(
            "44.1 48 failed", use_inner_text=True
        )
        page.goto(f"{self.instance.address}/batches/forecast/?target=radio-mp3")
        self.finished(page)
        page.get_by_role("button", name="Check against specification").click()
        expect(page.locator("#specification .sentence")).to_contain_text("4 meet it", timeout=A_WHILE_MS)
        for path in (self.instance.data / "results" / "radio-mp3" / "Delivered").rglob("*.mp3"):
            found = mutagen.File(path).info
            self.assertEqual(
                (round(found.bitrate / 1000), str(found.bitrate_mode), found.mode), (128, "BitrateMode.CBR", 1)
            )
        self.assertEqual(self.faults, [])

    def test_narration_for_a_course_is_levelled_and_held_against_its_paper(self) -> None:
        folder = self.instance.data / "demo" / "Narrated"
        for number, volume in enumerate((0.05, 0.4)):
            sound = music(44_100 * 12, channels=1, seed=number) * volume
            write_sound(folder / f"Narrated {number}.wav", sound=sound, channels=1)
        page = self.gathered("Narrated", 2)
        self.choose(page, "Target", "course")
        page.get_by_role("button", name="Start batch").click()
        expect(page.locator("#batch[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        page.get_by_role("button", name="Check against specification").click()
        expect(page.locator("#specification .sentence")).to_contain_text("2 meet it", timeout=A_WHILE_MS)
        for path in (self.instance.data / "results" / "course" / "Narrated").rglob("*.mp3"):
            info = mutagen.File(path).info
            self.assertEqual((round(info.bitrate / 1000), info.channels), (96, 1))
            self.assertAlmostEqual(inspect_deep(inspect_file(path)).level.integrated_lufs, -19, delta=0.5)
        self.assertEqual(self.faults, [])

    def test_an_archive_tree_is_mirrored_though_its_workers_are_killed(self) -> None:
        folder = self.instance.data / "demo" / "Archived"
        for number in range(6):
            write_sound(folder / f"reel {number}" / f"Archived {number}.wav", 6_000_000, seed=number)
        page = self.gathered("Archived", 6)
        self.choose(page, "Destination", "folder")
        page.get_by_label("Folder").fill(str(self.instance.data / "demo" / "Mirror"))
        page.get_by_role("button", name="Show").click()
        self.choose(page, "Target", "archive-flac")
        page.get_by_role("button", name="Start batch").click()
        expect(page.locator("#items .work-ruler, #items svg").first).to_be_visible(timeout=A_WHILE_MS)
        self.assertGreater(self.kill_workers(), 0)
        page.get_by_role("button", name="Stop the batch").click()
        expect(page.locator("#batch[data-state=stopped]")).to_be_visible(timeout=A_WHILE_MS)
        page.get_by_role("button", name="Continue").click()
        expect(page.locator("#batch[data-state=done]")).to_be_visible(timeout=A_WHILE_MS)
        mirror = self.instance.data / "demo" / "Mirror" / "Archived"
        for source in folder.rglob("*.wav"):
            result = (mirror / source.relative_to(folder)).with_suffix(".flac")
            self.assertTrue(
                (soundfile.read(source, dtype="int16")[0] == soundfile.read(result, dtype="int16")[0]).all()
            )
        self.assertEqual(list(mirror.rglob(".*")), [], "nothing half-written is left")
        page.get_by_role("link", name="Keep in sync...").click()
        page.get_by_label("The whole source folder").check()
        page.get_by_role("button", name="Keep in sync").click()
        write_sound(folder / "reel 6" / "Archived 6.wav", 100_000, seed=6)
        page.goto(f"{self.instance.address}/folders/")
        page.locator("#folders tr", has_text="Archived").get_by_role("button", name="Scan again").click()
        for _ in ("the scan", "the batch"):
            page.goto(f"{self.instance.address}/work/")
            expect(page.locator("#jobs:not([hx-get])")).to_be_visible(timeout=A_WHILE_MS)
            page.goto(f"{self.instance.address}/batches/")
            page.get_by_role("button", name="Sync Archived now").click()
        self.assertTrue((mirror / "reel 6" / "Archived 6.flac").is_file(), "what is new was made")
        self.assertEqual(self.faults, [])

    def kill_workers(self) -> int:
        """Kill what converts, as a machine without memory does."""
        listed = subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout.splitlines()[1:]
        parents = {int(line.split()[0]): int(line.split()[1]) for line in listed}
        forked = [int(line.split()[0]) for line in listed if "multiprocessing.forkserver" in line]
        killed = 0
        for pid in forked:
            if parents.get(pid) in forked and self.is_ours(pid, parents):
                os.kill(pid, signal.SIGKILL)
                killed += 1
        return killed

    def is_ours(self, pid: int, parents: dict[int, int]) -> bool:
        try:
            environment = Path(f"/proc/{pid}/environ").read_bytes().decode(errors="replace")
        except OSError:
            return False
        return f"RUMBREL_DATA={self.instance.data}" in environment

    def test_an_own_target_is_made_in_the_form_and_used(self) -> None:
        folder = self.instance.data / "demo" / "Owned"
        write_sound(folder / "Owned.wav", 100_000)
        page = self.page("/targets/average-mp3/", viewport=_WIDE)
        page.get_by_role("link", name="Make a copy").click()
        page.get_by_label("Name", exact=True).fill("Museum guide, Opus 48")
        page.get_by_label("Format made").select_option("opus")
        expect(page.get_by_label("Joint stereo always")).to_have_count(0)
        page.get_by_label("Bitrate mode").select_option("constant")
        page.get_by_label("Bitrate, kbit/s").select_option("48")
        page.get_by_label("Codec, MP3").select_option("opus")
        page.get_by_label("In, MP3").select_option("ogg")
        page.get_by_label("Rates, kHz, MP3").fill("48")
        page.get_by_label("Naming pattern").fill("{sparkle}")
        expect(page.locator("#names")).to_contain_text("no field 'sparkle'")
        page.get_by_role("button", name="Save").click()
        expect(page.locator("tr", has_text="Naming pattern")).to_contain_text("no field 'sparkle'")
        page.get_by_label("Naming pattern").fill("{stem}, small")
        page.get_by_role("button", name="Save").click()
        expect(page.locator(".message")).to_contain_text("Museum guide, Opus 48 is kept")
        page = self.gathered("Owned", 1)
        self.choose(page, "Target", "museum-guide-opus-48")
        self.finished(page)
        (made,) = (self.instance.data / "results" / "museum-guide-opus-48").rglob("*.opus")
        self.assertEqual(made.name, "Owned, small.opus")
        with av.open(str(made)) as file:
            self.assertEqual(file.streams.audio[0].codec_context.name, "opus")
        self.assertEqual(self.faults, [])

    def test_a_result_altered_by_another_hand_leads_to_the_place_and_is_heard_there(self) -> None:
        sound = music(44_100 * 12)
        write_sound(self.instance.data / "demo" / "Altered" / "Altered.flac", sound=sound)
        page = self.finished(self.gathered("Altered", 1))
        [made] = self.instance.data.rglob("Altered.mp3")
        heard, rate = soundfile.read(made)
        heard[rate * 8 : rate * 8 + rate // 2] = 0
        soundfile.write(made, heard, rate)
        page.get_by_role("button", name="Check again", exact=True).click()
        page.get_by_role("link", name=re.compile("^Compare Altered at 0:08")).click(timeout=A_WHILE_MS)
        expect(page.get_by_label("From second")).to_have_value("5.0")
        page.get_by_role("button", name="Make and listen").click()
        page.get_by_role("button", name="Play").click(timeout=A_WHILE_MS)
        expect(page.locator("[data-compare]")).to_have_attribute("data-at", re.compile(r"^[1-9]"))
        page.keyboard.press("2")
        expect(page.locator("[data-hear='1']")).to_have_attribute("aria-pressed", "true")
        self.assertEqual(self.faults, [])

    def test_a_blind_test_of_ten_trials(self) -> None:
        folder = self.instance.data / "demo" / "Blinded"
        sound = music(44_100 * 12)
        write_sound(folder / "Blinded.wav", sound=sound)
        page = self.gathered("Blinded", 1)
        page.goto(f"{self.instance.address}/batches/forecast/?target=speech-small")
        page.get_by_role("link", name="Preview...").click()
        page.get_by_role("button", name="Make and listen").click()
        expect(page.get_by_role("button", name="Begin")).to_be_visible(timeout=A_WHILE_MS)
        page.get_by_role("button", name="Begin").click()
        for number in range(1, 11):
            expect(page.locator("#trial")).to_contain_text(f"Trial {number} of 10")
            page.wait_for_load_state()
            page.keyboard.press("1")
            expect(page.get_by_role("button", name="Listen to the first")).to_have_attribute("aria-pressed", "true")
            page.keyboard.press("2")
            expect(page.get_by_role("button", name="Listen to the second")).to_have_attribute("aria-pressed", "true")
            if number % 2:
                page.keyboard.press("1")
            expect(page.locator("#answer")).to_contain_text("the first" if number % 2 else "the second")
            page.keyboard.press("Control+Enter")
        expect(page.locator("main")).to_contain_text("All trials are over")
        right = int(re.search(r"(\d+) of 10 right", page.locator("main").inner_text())[1])
        expect(page.locator(".verdict-passed")).to_have_count(right)
        with page.expect_download() as download:
            page.get_by_role("link", name="JSON").click()
        self.assertIn(f'"right": {right}', Path(download.value.path()).read_text())
        self.assertEqual(self.faults, [])
