"""The table of tracks: the sentence, walking by keys, totals, the pull list, one track."""

import csv
import datetime
import io
import json
import re
from pathlib import Path
from unittest import mock
from urllib.parse import quote

import numpy as np
from django.urls import reverse
from django.utils import timezone
from PIL import Image

from rumbrel.core.errors import TagError
from rumbrel.core.tags import Cover, TagSet, write_tags
from rumbrel.core.tags.preview import cover_preview
from rumbrel.core.targets import all_targets
from rumbrel.web.collection.forms import SentenceForm
from rumbrel.web.collection.models import DeepLook, Pull, SavedView, SourceFolder, Track, TrackFacts
from rumbrel.web.collection.queries import (
    PAGE_TRACKS,
    facts_by_id,
    find_tracks,
    groups_of,
    page_of,
    pull_list_of,
    pulled_ids,
    totals_of,
)
from rumbrel.web.collection.sentence import ORDERS, Sentence
from rumbrel.web.collection.services import (
    clear_pulls,
    pull_found,
    recount_folder,
    restore_pulls,
    start_looks,
    toggle_pull,
)
from rumbrel.web.ui.templatetags.figures import bytes_text
from tests.signals import melody, write_film, write_framed, write_sound
from tests.web.case import WebCase, plain_spaces

FORMATS = ("FLAC", "MP3", "WAV")


def picture() -> Cover:
    data = io.BytesIO()
    Image.new("RGB", (800, 400), "teal").save(data, "PNG")
    return Cover(media_type="image/png", data=data.getvalue())


class MadeUpCase(WebCase):
    """Rows without files: 260 tracks with many equal keys."""

    def setUp(self) -> None:
        super().setUp()
        self.made = SourceFolder.objects.create(path="/made/up")
        tracks = [
            Track(
                folder=self.made, path=f"/made/up/{n:03}.x", relative=f"{n // 4:02}/{n:03}.x", title=f"Title t{n % 9}",
                performer=f"P {n % 5}", format=FORMATS[n % 3], sample_rate=(44_100, 48_000)[n % 2], samples=44_100,
                seconds=float(n % 7), size_bytes=1_000 * (n % 11), fault="empty" if n % 13 == 0 else "", whole=n % 13 > 0,
            )
            for n in range(260)
        ]  # fmt: skip
        tracks = Track.objects.bulk_create(tracks)
        TrackFacts.objects.bulk_create(
            [TrackFacts(track=t, data="{}", words=f"{t.relative} {t.title} Größe été {t.performer}") for t in tracks]
        )
        recount_folder(folder=self.made)


class SentenceTests(MadeUpCase):
    def test_each_choice_narrows_and_the_kept_totals_are_those_of_the_rows(self) -> None:
        for sentence, keeps in (
            (Sentence(), lambda t: True),
            (Sentence(folder=self.made.pk), lambda t: True),
            (Sentence(folder=self.made.pk + 1), lambda t: False),
            (Sentence(format="MP3"), lambda t: t.format == "MP3"),
            (Sentence(rate=48_000), lambda t: t.sample_rate == 48_000),
            (Sentence(fault="none"), lambda t: not t.fault),
            (Sentence(fault="any"), lambda t: bool(t.fault)),
            (Sentence(fault="empty", format="WAV"), lambda t: t.fault == "empty" and t.format == "WAV"),
            (Sentence(text="title t3"), lambda t: t.title == "Title t3"),
            (Sentence(text="TIT p", format="FLAC"), lambda t: t.format == "FLAC"),
        ):
            wanted = [t for t in Track.objects.all() if keeps(t)]
            found, totals = list(find_tracks(sentence)), totals_of(sentence)
            self.assertEqual({t.pk for t in found}, {t.pk for t in wanted}, sentence)
            self.assertEqual((totals.tracks, totals.exact), (len(wanted), True), sentence)
            self.assertAlmostEqual(totals.seconds, sum(t.seconds for t in wanted))
            self.assertEqual(totals.size_bytes, sum(t.size_bytes for t in wanted))
            self.assertEqual(totals.longest_seconds, max((t.seconds for t in wanted), default=0))

    def test_words_are_found_at_their_beginning_whatever_their_accents_and_signs(self) -> None:
        for text, found in (
            ("grosse", 0), ("größ", 260), ("ete", 260), ("ÉTÉ title", 260), ("itle", 0), ("title, t8", 28), ('"', 0),
            ("AND OR NOT", 0), ("-- *", 0), ("07/031.x", 1),
        ):  # fmt: skip
            self.assertEqual(find_tracks(Sentence(text=text)).count(), found, text)

    def test_words_follow_their_track(self) -> None:
        track = Track.objects.first()
        TrackFacts.objects.filter(track=track).update(words="Quernstow")
        self.assertEqual(list(find_tracks(Sentence(text="quern"))), [track])
        self.assertEqual(find_tracks(Sentence(text="title")).count(), 259)
        track.delete()
        self.assertEqual(find_tracks(Sentence(text="quern")).count(), 0)

    def test_choices_that_cannot_be_are_left_open(self) -> None:
        for query in ({"rate": "²"}, {"folder": "9" * 5_000}, {"order": "drop"}, {"fault": "x"}, {"after": "x"}):
            self.assertEqual(SentenceForm(query).sentence(), Sentence(), query)
            self.assertIn("260 of 260 tracks", self.page(reverse("collection:index"), **query))
        long = self.page(reverse("collection:index"), text="x" * 60_000)
        self.assertIn("260 of 260 tracks", long)

    def test_a_search_that_finds_nothing_says_what_to_do(self) -> None:
        self.assertIn("Widen a choice above", self.fragment(reverse("collection:rows"), text="nowhere"))


class WalkTests(MadeUpCase):
    def test_every_order_is_walked_forth_and_back_without_a_gap_or_a_double(self) -> None:
        for order in ORDERS:
            for sentence in (
                Sentence(order=order), Sentence(order=order, format="WAV", text="title"),
                Sentence(order=order, then="length", turned=True), Sentence(order="format", then=order),
            ):  # fmt: skip
                tracks = find_tracks(sentence)
                wanted = [track.pk for track in tracks]
                pages = [page_of(tracks)]
                while pages[-1].later:
                    pages.append(page_of(tracks, after=pages[-1].later))
                self.assertEqual([t.pk for page in pages for t in page.tracks], wanted, order)
                self.assertIsNone(pages[0].earlier)
                back = [pages[-1]]
                while back[-1].earlier:
                    back.append(page_of(tracks, before=back[-1].earlier))
                self.assertEqual([t.pk for page in reversed(back) for t in page.tracks], wanted, order)

    def test_what_is_equal_is_sorted_by_the_second_choice_and_all_can_be_turned_round(self) -> None:
        asked = Sentence(order="format", then="length")
        rows = [(track.format, -track.seconds, track.pk) for track in find_tracks(asked)]
        self.assertEqual(rows, sorted(rows))
        turned = find_tracks(Sentence(order="format", then="length", turned=True))
        self.assertEqual([track.pk for track in turned], [pk for *_, pk in reversed(rows)])
        self.assertEqual(asked.order_fields, ("format", "-seconds", "relative", "pk"))
        self.assertEqual(Sentence(order="added last", then="length").order_fields, ("-pk",))

    def test_columns_are_chosen_ordered_and_sorted_by(self) -> None:
        page = self.page(reverse("collection:index"))
        for text in ('aria-label="Leave out Performer"', "add Album", 'href="/?order=performer&amp;then=folder">'):
            self.assertIn(text, page)
        self.assertNotIn('name="columns"', page)
        asked = {"columns": ["year", "format", "year", "nothing"], "order": "format", "turned": "yes"}
        page = self.page(reverse("collection:index"), **asked)
        heads = [re.sub("<[^>]+>", "", head) for head in re.findall(r"<th scope=\"col\"[^>]*>(.*?)</th>", page)]
        self.assertEqual(heads, ["Pulled", "Title", "Year", "Format"])
        self.assertIn('aria-sort="descending"', page)
        self.assertEqual(page.count('name="columns" value='), 2)
        left = re.search(r'href="([^"]+)" aria-label="Format, further to the left"', page)[1].replace("&amp;", "&")
        self.assertIn("columns=format&columns=year", left)
        track = Track.objects.first()
        row = self.client.post(
            reverse("collection:pull", args=[track.pk]), {"columns": ["mb"]}, headers={"HX-Request": "true"}
        ).content.decode()
        self.assertEqual(len(re.findall("<t[dh]", row)), 3)

    def test_a_view_is_kept_shown_removed_and_put_back(self) -> None:
        query = "format=WAV&order=length&columns=mb&after=7&choosing=yes"
        page = self.client.post(reverse("collection:keep-view"), {"name": "Tall <b>", "query": query}, follow=True)
        self.assertEqual(page.redirect_chain[-1][0], "/?format=WAV&order=length&columns=mb")
        self.assert_all_in(("Kept as Tall &lt;b&gt;.", "86 of 260 tracks", "Views (1)"), page.content.decode())
        self.client.post(reverse("collection:keep-view"), {"name": "Tall <b>", "query": "format=MP3"})
        view = SavedView.objects.get()
        self.assertEqual(view.query, "format=MP3")
        gone = self.client.post(reverse("collection:remove-view", args=[view.pk]), follow=True).content.decode()
        self.assertNotIn("Views (1)", gone)
        back = re.search(r'action="(/views/[^"]+restore/)"', gone)[1]
        self.assertIn("Views (1)", self.client.post(back, follow=True).content.decode())
        refused = self.client.post(reverse("collection:keep-view"), {"name": " "}, follow=True).content.decode()
        self.assertIn("Give the view a name", refused)

    def test_pages_keep_the_sentence_and_the_browser_remembers_the_page(self) -> None:
        response = self.client.get(
            reverse("collection:rows"), {"text": "title", "order": "length"}, headers={"HX-Request": "true"}
        )
        self.assertEqual(response["HX-Push-Url"], "/?text=title&order=length")
        text = response.content.decode()
        self.assertNotIn("<html", text)
        later = text.split('rel="next" href="')[1].split('"')[0].replace("&amp;", "&")
        self.assert_all_in(("text=title", "order=length", "after="), later)
        page = self.page(later)
        self.assert_all_in(('rel="prev"', 'value="title"', '<option value="length" selected>'), page)
        self.assertEqual(page.count("<tr data-row"), PAGE_TRACKS)

    def test_the_cursor_of_a_track_that_is_gone_begins_anew(self) -> None:
        self.assertEqual(len(page_of(find_tracks(Sentence()), after=10**9).tracks), PAGE_TRACKS)


class PullTests(MadeUpCase):
    def strip(self) -> list:
        pull_list = pull_list_of()
        self.assertEqual(sum(count for _, count, _ in pull_list.strip), pull_list.count)
        self.assertAlmostEqual(sum(seconds for seconds, _, _ in pull_list.strip), pull_list.seconds, delta=0.1)
        self.assertEqual(pull_list.count, len(pulled_ids()))
        return pull_list.strip

    def test_pulled_in_the_order_shown_once_each(self) -> None:
        sentence = Sentence(format="MP3", order="length")
        first = find_tracks(sentence)[3]
        self.assertTrue(toggle_pull(track=first))
        self.assertEqual(pull_found(sentence=sentence), 86)
        wanted = [t.pk for t in find_tracks(sentence) if t.pk != first.pk]
        self.assertEqual(pulled_ids(), [first.pk, *wanted])
        self.assertEqual(pull_found(sentence=sentence), 0)
        self.assertEqual(len(self.strip()), 87)
        self.assertFalse(toggle_pull(track=first))
        self.assertEqual(pulled_ids(), wanted)

    def test_a_long_list_is_drawn_in_groups(self) -> None:
        pull_found(sentence=Sentence())
        strip = self.strip()
        self.assertLessEqual(len(strip), 160)
        self.assertEqual({count for _, count, _ in strip}, {2})

    def test_cleared_and_put_back_as_it_was(self) -> None:
        pull_found(sentence=Sentence(format="WAV"))
        before = pulled_ids()
        again = Track.objects.get(pk=before[5])
        self.assertEqual(clear_pulls(), 86)
        self.assertEqual((pulled_ids(), self.strip()), ([], []))
        self.assertEqual(clear_pulls(), 0, "and what can be put back stays")
        toggle_pull(track=again)
        self.assertEqual(restore_pulls(), 85)
        self.assertEqual(set(pulled_ids()), set(before))
        clear_pulls()
        self.assertEqual(Pull.objects.count(), 86)
        page = self.client.post(reverse("collection:undo-clear"), follow=True).content.decode()
        self.assertIn("86 tracks restored", page)

    def test_the_marks_and_the_strip_as_htmx_asks_for_them(self) -> None:
        track = find_tracks(Sentence())[0]
        response = self.client.post(reverse("collection:pull", args=[track.pk]), headers={"HX-Request": "true"})
        self.assertEqual(response["HX-Trigger"], '{"pulled": {}}')
        self.assert_all_in(('aria-pressed="true"', f'id="pull-{track.pk}"', "Take off"), response.content.decode())
        self.assertIn("1 track<br>", self.fragment(reverse("collection:pull-strip")))
        page = self.client.post(
            reverse("collection:pull-all") + "?format=FLAC&text=title", follow=True
        ).content.decode()
        self.assertIn("86 tracks pulled", page)
        self.assertIn("87 of 260 tracks", page)

    def test_clearing_goes_back_to_a_page_of_ours_only(self) -> None:
        for back, to in (("/where/?target=car-mp3", "/where/?target=car-mp3"), ("//example.org/", "/"), ("x:y", "/")):
            response = self.client.post(reverse("collection:clear-pull"), {"back": back})
            self.assertEqual(response.url, to)

    def test_clearing_keeps_the_search_as_it_is_by_then(self) -> None:
        self.pull_all()
        self.assertIn('name="back" value="here"', self.fragment(reverse("collection:pull-strip")))
        for referer, to in (
            ("http://testserver/?text=bells&format=WAV", "/?text=bells&format=WAV"),
            ("http://testserver//example.org/", "/"),
            ("http://example.org/?text=bells", "/"),
            ("", "/"),
        ):
            response = self.client.post(
                reverse("collection:clear-pull"), {"back": "here"}, headers={"Referer": referer}
            )
            self.assertEqual(response.url, to, referer)


class TrackTests(WebCase):
    def test_a_track_has_a_page_and_a_panel_with_faults_and_fits(self) -> None:
        self.gather()
        track = Track.objects.get(relative="a/peal <b>.flac")
        panel = self.fragment(reverse("collection:panel", args=[track.pk]))
        self.assert_all_in(("250,000 samples", "44.1 kHz 16 bit 2 ch", "a/peal &lt;b&gt;.flac"), panel)
        self.assertEqual(sum(panel.count(f"<strong>{t.name}</strong>") for t in all_targets()), len(all_targets()))
        page = self.page(reverse("collection:track", args=[track.pk]))
        self.assertIn("<h1>peal &lt;b&gt;</h1>", page)
        empty = Track.objects.get(relative="empty.mp3")
        panel = self.fragment(reverse("collection:panel", args=[empty.pk]))
        # What all targets say alike is said once, beside the fault itself.
        self.assertEqual(panel.count("The file has no content"), 2)


class NarrowerTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        for name, samples, title in (
            ("long.wav", 44_100 * 9, "=1+1"),
            ("short.flac", 44_100, ""),
            ("mid.flac", 44_100 * 4, "Peal"),
        ):
            path = write_sound(self.source / name, samples)
            if title:
                container, codec = ("wav", "pcm") if name.endswith("wav") else ("flac", "flac")
                fields = {"title": (title,), "artist": ("A. Venning",)} | (
                    {"date": ("1998-05-02",)} if title == "Peal" else {}
                )
                tags = TagSet(fields=fields, covers=(picture(),) if title == "Peal" else ())
                write_tags(path, tags, container=container, codec=codec)
        write_framed(self.source / "lossy.wma", "wmav2", muxer="asf", rate=44_100, seconds=2)
        self.scan()

    def names(self, **asked: object) -> list[str]:
        lines = (
            b"".join(self.client.get(reverse("collection:export-jsonl"), asked).streaming_content).decode().splitlines()
        )
        return sorted(json.loads(line)["file"] for line in lines)

    def test_each_choice_and_range_narrows_page_export_and_pull_alike(self) -> None:
        now = timezone.now()
        Track.objects.filter(relative="long.wav").update(added_at=None)
        Track.objects.filter(relative="lossy.wma").update(added_at=now - datetime.timedelta(days=8))
        Track.objects.filter(relative="short.flac").update(missing_since=now)
        for asked, right in (
            ({}, ["long.wav", "lossy.wma", "mid.flac", "short.flac"]),
            ({"kind": "lossless"}, ["long.wav", "mid.flac", "short.flac"]),
            ({"kind": "lossy"}, ["lossy.wma"]),
            ({"kind": "film"}, []),
            ({"lacks": "performer"}, ["lossy.wma", "short.flac"]),
            ({"least_minutes": 4 / 60}, ["long.wav", "mid.flac"]),
            ({"most_minutes": 3.99 / 60, "kind": "lossless"}, ["short.flac"]),
            ({"least_kbps": 1411}, ["long.wav"]),
            ({"most_kbps": 200}, ["lossy.wma"]),
            ({"least_kbps": 1411, "most_kbps": 1411}, ["long.wav"]),
            ({"text": "peal", "lacks": "performer"}, []),
            ({"has": "title"}, ["long.wav", "mid.flac"]),
            ({"has": "title", "lacks": "date"}, ["long.wav"]),
            ({"has": "cover"}, ["mid.flac"]),
            ({"lacks": "cover", "kind": "lossless"}, ["long.wav", "short.flac"]),
            ({"least_year": 1998, "most_year": 1998}, ["mid.flac"]),
            ({"least_year": 1999}, []),
            ({"format": "FLAC", "or_format": "WAV"}, ["long.wav", "mid.flac", "short.flac"]),
            ({"least_khz": 44.2}, []),
            ({"most_khz": 44.1, "least_mb": 1.5}, ["long.wav"]),
            ({"most_mb": 0.1}, ["lossy.wma"]),
            ({"added": "in the last year"}, ["lossy.wma", "mid.flac", "short.flac"]),
            ({"added": "in the last 7 days"}, ["mid.flac", "short.flac"]),
            ({"kind": "missing"}, ["short.flac"]),
        ):
            with self.subTest(asked=asked):
                self.assertEqual(self.names(**asked), right)
                page = self.fragment(reverse("collection:rows"), **asked)
                self.assertIn(f"{len(right)} of 4 tracks", page)
        self.client.post(f"{reverse('collection:pull-all')}?added=in+the+last+7+days&has=title&least_year=1990")
        self.assertEqual([Track.objects.get(pk=pk).relative for pk in pulled_ids()], ["mid.flac"])
        clear_pulls()
        self.client.post(f"{reverse('collection:pull-all')}?kind=lossy")
        self.assertEqual([Track.objects.get(pk=pk).relative for pk in pulled_ids()], ["lossy.wma"])
        Track.objects.filter(relative="lossy.wma").update(codec="")
        self.assertEqual(self.names(kind="lossy"), [], "of what cannot be read nobody knows")
        page = self.page(reverse("collection:index"), least_kbps="many", most_kbps=99)
        for text in ("not such numbers: kbit/s, at least", '<details class="finer" open>'):
            self.assertIn(text, page)

    def test_a_table_has_units_in_its_head_and_no_formulas(self) -> None:
        text = b"".join(
            self.client.get(reverse("collection:export-csv"), {"order": "length"}).streaming_content
        ).decode()
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual([row["file"] for row in rows], ["long.wav", "mid.flac", "lossy.wma", "short.flac"])
        self.assertEqual(
            (rows[0]["title"], rows[0]["sample_rate_hz"], rows[0]["samples"]), ("'=1+1", "44100", "396900")
        )

    def test_the_overview_sums_up_and_leads_to_the_parts(self) -> None:
        page = self.page(reverse("collection:overview"))
        sizes = dict(Track.objects.values_list("relative", "size_bytes"))
        self.assertIn(plain_spaces(bytes_text(sizes["mid.flac"] + sizes["short.flac"])), page)
        self.assertRegex(page, r"3 lossless</a>, [\d.]+ MB")
        addresses = re.findall(r'<th scope="row"><a href="([^"]+)">', page)
        self.assertEqual(len(addresses), 5, "three formats, a rate, and no fault")
        counts = [int(re.search(r"(\d+) of 4 tracks", self.page(address))[1]) for address in addresses]
        self.assertEqual(sorted(counts), [1, 1, 2, 4, 4])
        strips = re.findall(r'<svg class="ruler share-strip"[^>]*aria-label="([^"]+)">(.*?)</svg>', page, re.DOTALL)
        self.assertEqual([name for name, _ in strips][-1], "Year, Tracks", "no track has a fault")
        undated = re.search(r'<a href="([^"]+)"><title>no year: (\d) tracks', strips[-1][1])
        self.assertEqual(int(undated[2]), Track.objects.filter(year=0).count())
        self.assertIn(f"{undated[2]} of 4 tracks", self.page(undated[1].replace("&amp;", "&")))
        for name, strip in strips:
            widths = [float(width) for width in re.findall(r'<rect [^>]*width="([\d.]+)"', strip)]
            self.assertAlmostEqual(sum(widths), 1224, delta=0.1, msg=name)

    def test_folders_are_groups_of_their_source_folder(self) -> None:
        other = SourceFolder.objects.create(path="/made/up", label="Tapes")
        for name in ("in/x.wav", "in/deep/y.wav", "z.wav"):
            Track.objects.create(folder=other, path=f"/made/up/{name}", relative=name, format="WAV")
        Track.objects.filter(relative="long.wav").update(relative="in/long.wav")
        page = self.page(reverse("collection:groups"), by="folder")
        addresses = re.findall(r'<a class="row-link" href="([^"]+)">([^<]+)</a></t[dh]><td class="num">(\d+)', page)
        mine = self.source.name
        self.assertEqual(
            [(name, count) for _, name, count in addresses],
            [(mine, "3"), (f"{mine} / in/", "1"), ("Tapes", "1"), ("Tapes / in/", "1"), ("Tapes / in/deep/", "1")],
        )
        for address, _, count in addresses:
            self.assertIn(f"{count} of ", self.page(address.replace("&amp;", "&")))
        found = [(row.folder, row.name) for row in groups_of(Sentence(), "folder")[0]]
        for at, (folder, name) in enumerate(found):
            behind = groups_of(Sentence(), "folder", after=name, folder=folder)[0]
            self.assertEqual([(row.folder, row.name) for row in behind], found[at + 1 :])

    def test_folders_within_a_source_folder_lead_to_all_that_lies_below_them(self) -> None:
        other = SourceFolder.objects.create(path="/made/up", label="Tapes")
        for name in ("in/x.wav", "in/deep/y.wav", "in/deep/er/w.wav", "in0/v.wav", "z.wav"):
            Track.objects.create(folder=other, path=f"/made/up/{name}", relative=name, format="WAV", seconds=2)
        address = reverse("collection:subfolders", args=[other.pk])
        for below, expected in (
            ("", [("in", "3", "0:06"), ("in0", "1", "0:02")]), ("in", [("deep", "2", "0:04")]),
            ("in/deep", [("er", "1", "0:02")]), ("z.wav", []),
        ):  # fmt: skip
            with self.subTest(below=below):
                rows = self.fragment(address, below=below)
                found = re.findall(
                    r'row-link" href="([^"]+)">([^<]+)</a></th>\s*<td.*?>(\d+)</td>\s*<td.*?>([^<]+)</td>', rows
                )
                self.assertEqual([tuple(each[1:]) for each in found], expected)
                for link, _, count, _ in found:
                    self.assertIn(f"{count} of ", self.page(link.replace("&amp;", "&")))
        self.assertIn(f"below={quote('in/deep')}", self.fragment(address, below="in"))

    def test_a_picture_of_the_tags_is_shown_small_and_what_is_none_is_said(self) -> None:
        track = Track.objects.get(relative="mid.flac")
        page = self.page(reverse("collection:track", args=[track.pk]))
        address = re.search(r'<img src="([^"]+)"', page)[1]
        answer = self.client.get(address)
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "image/jpeg"))
        with Image.open(io.BytesIO(answer.content)) as small:
            self.assertEqual((small.format, small.size), ("JPEG", (320, 160)))
        missing = self.client.get(reverse("collection:cover", args=[track.pk, 1]))
        self.assertEqual((missing.status_code, missing.content), (409, b"There is no such picture in its tags."))
        Path(track.path).touch()
        self.assertIn(b"changed since it was scanned", self.client.get(address).content)
        for data, words in ((b"\xff\xd8 no picture", "cannot be read"), (bytes(17_000_000), "too large")):
            with self.assertRaisesRegex(TagError, words):
                cover_preview(Cover(media_type="image/jpeg", data=data), pixels=320)

    def test_groups_are_shown_and_pulled_whole(self) -> None:
        Track.objects.filter(relative__in=("long.wav", "mid.flac")).update(album="Days & nights")
        page = self.page(reverse("collection:groups"))
        seconds = sum(Track.objects.exclude(album="").values_list("seconds", flat=True))
        for text in ("Days &amp; nights", "Pull 2 tracks", f"0:{round(seconds):02d}", "without"):
            self.assertIn(text, page)
        address = re.findall(r'<a class="row-link" href="([^"]+)">Days', page)[0].replace("&amp;", "&")
        shown = self.page(address)
        for text in ("2 of 4 tracks", "of the album <b>Days &amp; nights</b>"):
            self.assertIn(text, shown)
        without = re.findall(r'<a class="row-link" href="([^"]+)">without album', page)[0].replace("&amp;", "&")
        self.assertIn("2 of 4 tracks", self.page(without))
        pull = re.findall(r'action="(/pull/all/[^"]+album[^"]+)"', page)[-1].replace("&amp;", "&")
        self.client.post(pull, {"back": reverse("collection:groups")})
        self.assertEqual(len(pulled_ids()), 2)
        performers = self.page(reverse("collection:groups"), by="performer", kind="lossless")
        self.assertIn("A. Venning", performers)
        with mock.patch("rumbrel.web.collection.queries.GROUPS_A_PAGE", 1):
            first = self.page(reverse("collection:groups"))
            self.assertIn("Later names", first)
            behind = re.findall(r'rel="next" href="([^"]*)"', first)[0].replace("&amp;", "&")
            self.assertNotIn("Days &amp; nights", first)
            self.assertIn("Days &amp; nights", self.page(reverse("collection:groups") + behind))
        self.assertNotIn("Later names", self.page(reverse("collection:groups"), behind="Days & nights"))


class DuplicateTests(WebCase):
    def setUp(self) -> None:
        super().setUp()
        tags = TagSet(fields={"title": ("Peal",), "artist": ("A. Venning",)})
        for name, seed, codec in (
            ("a.flac", 1, "flac"), ("deep/b.wav", 1, "pcm"), ("other.flac", 2, "flac"),
        ):  # fmt: skip
            path = write_sound(self.source / name, sound=np.int16(melody(seed)[:, None] * 20_000))
            write_tags(path, tags, container="wav" if codec == "pcm" else "flac", codec=codec)
        for name, seed, seconds in (("c.mp3", 1, 0), ("long.mp3", 1, 4)):
            sound = np.concatenate([melody(seed), np.zeros(seconds * 44_100)])[:, None]
            path = write_sound(self.source / name, sound=sound, subtype="MPEG_LAYER_III")
            write_tags(path, tags, container="mp3", codec="mp3")
        self.scan()
        self.ids = dict(Track.objects.values_list("relative", "pk"))

    def rows(self, page: str) -> list[list[str]]:
        """The files of each group, with what is said of them."""
        tables = re.findall(r"<tbody>(.*?)</tbody>", page, re.S)
        cell = r"<td class=\"soft wrap-anywhere\">[^/]+/ ([^<]+)</td><td class=\"(?:warn|soft)\">([^<]*)"
        return [[" ".join(found) for found in re.findall(cell, table)] for table in tables]

    def test_equal_sound_is_found_after_a_deep_look_whatever_its_format(self) -> None:
        address = reverse("collection:duplicates")
        self.assert_all_in(("0 groups", "0 tracks of 5 analysed", "No two analysed tracks"), self.page(address))
        start_looks(track_ids=list(self.ids.values()))
        self.work()
        page = self.page(address)
        self.assertEqual(self.rows(page), [["a.flac the best format", "deep/b.wav the same, sample for sample"]])
        (others,) = re.findall(r'name="ids" value="(\d+)"', page)
        self.assertEqual(int(others), self.ids["deep/b.wav"])
        self.client.post(reverse("collection:pull-some"), {"ids": f"{others} 999999"})
        self.assertEqual(pulled_ids(), [self.ids["deep/b.wav"]])
        refused = self.client.post(reverse("collection:pull-some"), {"ids": "1;2"}, follow=True).content.decode()
        self.assertIn("could not be identified", refused)
        # What was looked at is another file by now.
        Track.objects.filter(relative="a.flac").update(modified_ns=1)
        self.assertEqual(self.rows(self.page(address)), [])

    def test_one_recording_in_other_formats_is_named_compared_and_told_from_another(self) -> None:
        address = reverse("collection:duplicates")
        before = self.rows(self.page(address, kind="recording"))
        self.assertEqual([row.split()[0] for row in before[0]], ["a.flac", "other.flac", "deep/b.wav", "c.mp3"])
        self.assertTrue(all("not compared before" in row for row in before[0][1:]))
        start_looks(track_ids=list(self.ids.values()))
        self.work()
        (found,) = self.rows(self.page(address, kind="recording"))
        self.assertEqual([row.split()[0] for row in found], ["a.flac", "other.flac", "c.mp3"])
        self.assertIn("sounds different", found[1])
        self.assertIn("sounds alike", found[2])


class SoundTests(WebCase):
    def test_a_films_sound_is_chosen_by_its_language_and_stays_chosen(self) -> None:
        path = write_film(self.source / "film.mkv", seconds=3, languages=("eng", "deu"))
        self.scan()
        track = Track.objects.get()
        start_looks(track_ids=[track.pk])
        self.work()
        page = self.page(reverse("collection:track", args=[track.pk]))
        self.assert_all_in(
            ("<b>eng</b>, chosen", '<button class="linklike" name="number" value="2">deu</button>'), page
        )
        heard = self.client.get(reverse("collection:sound", args=[track.pk]))["ETag"]
        choose = reverse("collection:choose-sound", args=[track.pk])
        page = self.client.post(choose, {"number": 2}, follow=True).content.decode()
        self.assert_all_in(("The track is the sound deu from now on.", "<b>deu</b>, chosen"), page)
        self.assertFalse(DeepLook.objects.exists(), "what was told of the other sound is forgotten")
        self.assertNotEqual(self.client.get(reverse("collection:sound", args=[track.pk]))["ETag"], heard)
        start_looks(track_ids=[track.pk])
        self.work()
        self.assertEqual(facts_by_id([track.pk])[track.pk].sound_index, 1)
        path.touch()
        self.scan()
        self.assertEqual(facts_by_id([track.pk])[track.pk].sound_index, 1)
        for number in ("3", "x"):
            refused = self.client.post(choose, {"number": number}, follow=True).content.decode()
            self.assertIn("no such sound", refused)
