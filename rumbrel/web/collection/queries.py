"""Tracks as pages need them: found by a sentence, walked by keys, counted without counting."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote

from django.db import connection, transaction
from django.db.models import BigIntegerField, Count, Exists, ExpressionWrapper, F, OuterRef, Q, QuerySet, Sum
from django.db.models import Max as Largest
from django.db.models.expressions import RawSQL
from django.http import HttpRequest

from rumbrel.core.inspection import Facts
from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.asking import who_asks
from rumbrel.web.ui.seen import refuse_unseen
from rumbrel.web.ui.words import NBSP

from .facts import restored_facts
from .models import FOUND_AGAIN, MISSING, Facet, Fixity, FixityEvent, Pull, PullList, SourceFolder, Track, TrackFacts
from .sentence import NONE, Sentence, finer, narrowed

__all__ = [
    "Page",
    "GROUPS",
    "Group",
    "Share",
    "Totals",
    "changed_files",
    "choices",
    "KnownTrack",
    "facts_by_id",
    "find_tracks",
    "fixity_counts",
    "fixity_of",
    "folder_rows",
    "groups_of",
    "known_tracks",
    "lossless_part",
    "page_of",
    "pull_list_of",
    "pulled_ids",
    "shares_of_collection",
    "titles_of",
    "totals_of",
    "without_wholes",
]

PAGE_TRACKS = 60
MOST_COUNTED = 10_000
"""Of a search by words, so many are counted; beyond, it is said that there are more."""
_MANY = 5_000
"""Found by words, so many and more are met by walking the order instead of being sorted (measured with 100,000)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Totals:
    """exact is False where only the first MOST_COUNTED were counted; then nothing is summed."""

    tracks: int
    seconds: float = 0.0
    size_bytes: int = 0
    longest_seconds: float = 0.0
    exact: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Page:
    """Some tracks in order. earlier and later are the keys of what lies before and behind, None at the ends."""

    tracks: tuple[Track, ...]
    earlier: int | None
    later: int | None


def find_tracks(sentence: Sentence) -> QuerySet[Track]:
    """Tracks by the sentence; each word of the search must begin a word of the track's."""
    tracks = Track.objects.filter(narrowed(sentence) & finer(sentence))
    match = _match(sentence.text)
    if match:
        found = RawSQL("SELECT rowid FROM collection_words WHERE collection_words MATCH %s", (match,))
        # Few are fetched and sorted. Many are met soon when the order's index is walked; the sum keeps the database
        # from fetching each of them by its key instead.
        many = _matches(match, most=_MANY) == _MANY
        key = ExpressionWrapper(F("pk") + 0, output_field=BigIntegerField())
        tracks = tracks.alias(key=key).filter(key__in=found) if many else tracks.filter(pk__in=found)
    elif sentence.text.strip():
        tracks = tracks.none()
    return tracks.order_by(*sentence.order_fields)


def _matches(match: str, *, most: int) -> int:
    """How many rows match, counted no further than most."""
    sql = "SELECT COUNT(*) FROM (SELECT rowid FROM collection_words WHERE collection_words MATCH %s LIMIT %s)"
    with connection.cursor() as cursor:
        cursor.execute(sql, (match, most))
        return int(cursor.fetchone()[0])


def _match(text: str) -> str:
    """The words as FTS5 wants them: each quoted, each taken as a beginning."""
    words = "".join(sign if sign.isalnum() else " " for sign in text).split()
    return " AND ".join(f'"{word}"*' for word in words[:20])


def page_of(tracks: QuerySet[Track], *, after: int | None = None, before: int | None = None) -> Page:
    """The page behind or before a track, by the keys of its order: the cost does not grow with the collection."""
    fields = [str(name) for name in tracks.query.order_by]
    here = Track.objects.filter(pk=after or before).first() if after or before else None
    backwards = here is not None and after is None
    found = tracks
    if here is not None:
        found = tracks.filter(_beyond(fields, here, backwards=backwards))
    if backwards:
        found = found.reverse()
    pulled = Pull.objects.filter(pull_list__owner=who_asks(), cleared_at=None, track=OuterRef("pk"))
    rows = list(found.annotate(pulled=Exists(pulled)).select_related("folder")[: PAGE_TRACKS + 1])
    more, rows = len(rows) > PAGE_TRACKS, rows[:PAGE_TRACKS]
    if backwards:
        rows.reverse()
    if not rows:
        return Page(tracks=(), earlier=None, later=None)
    has_earlier = more if backwards else here is not None
    has_later = here is not None if backwards else more
    return Page(
        tracks=tuple(rows),
        earlier=rows[0].pk if has_earlier else None,
        later=rows[-1].pk if has_later else None,
    )


def _beyond(fields: Sequence[str], here: Track, *, backwards: bool) -> Q:
    """Rows that come after a row in an order of several fields, each up or down."""
    beyond, equal = Q(), Q()
    for field in fields:
        name = field.removeprefix("-")
        down = field.startswith("-") != backwards
        value = here.pk if name == "pk" else getattr(here, name)
        beyond |= equal & Q(**{f"{name}__{'lt' if down else 'gt'}": value})
        equal &= Q(**{name: value})
    # Said once more for the first field alone, so that its index leads the way.
    first = fields[0].removeprefix("-")
    down = fields[0].startswith("-") != backwards
    value = here.pk if first == "pk" else getattr(here, first)
    return Q(**{f"{first}__{'lte' if down else 'gte'}": value}) & beyond


def totals_of(sentence: Sentence) -> Totals:
    """How much the sentence finds: from the kept counts, or counted as far as it pays."""
    if sentence.is_counted_whole:
        sums = Facet.objects.filter(narrowed(sentence)).aggregate(
            tracks=Sum("tracks"), seconds=Sum("seconds"), size=Sum("size_bytes"), longest=Largest("longest_seconds")
        )
        return Totals(
            tracks=sums["tracks"] or 0,
            seconds=sums["seconds"] or 0.0,
            size_bytes=sums["size"] or 0,
            longest_seconds=sums["longest"] or 0.0,
        )
    match = _match(sentence.text)
    if match and narrowed(sentence) & finer(sentence) == Q() and _matches(match, most=MOST_COUNTED + 1) > MOST_COUNTED:
        return Totals(tracks=MOST_COUNTED, exact=False, longest_seconds=totals_of(Sentence()).longest_seconds)
    found = list(find_tracks(sentence).order_by().values_list("seconds", "size_bytes")[: MOST_COUNTED + 1])
    exact = len(found) <= MOST_COUNTED
    return Totals(
        tracks=min(len(found), MOST_COUNTED),
        seconds=sum(seconds for seconds, _ in found) if exact else 0.0,
        size_bytes=sum(size for _, size in found) if exact else 0,
        longest_seconds=max((seconds for seconds, _ in found), default=0.0),
        exact=exact,
    )


GROUPS: dict[str, tuple[str, ...]] = {
    "album": ("album",),
    "performer": ("performer",),
    "folder": ("folder_id", "directory"),
}
"""By what tracks are grouped, and the columns that are equal in a group; the last one is its name."""
GROUPS_A_PAGE = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """The tracks of one album, performer or folder; name "" for those without, or for a source folder itself."""

    name: str
    tracks: int
    seconds: float
    size_bytes: int
    folder: int | None = None


def groups_of(
    sentence: Sentence, by: str, *, after: str | None = None, folder: int | None = None
) -> tuple[list[Group], bool]:
    """What the sentence finds in groups, by name, from behind a name (and a source folder); and whether there are
    more."""
    tracks, columns = find_tracks(sentence).order_by(), GROUPS[by]
    if after is not None:
        behind = Q(**{f"{columns[-1]}__gt": after})
        if len(columns) > 1:
            behind = Q(folder_id=folder) & behind | Q(folder_id__gt=folder or 0)
        tracks = tracks.filter(behind)
    rows = tracks.values(*columns).annotate(n=Count("pk"), s=Sum("seconds"), b=Sum("size_bytes")).order_by(*columns)
    found = [
        Group(
            name=row[columns[-1]], tracks=row["n"], seconds=row["s"], size_bytes=row["b"], folder=row.get("folder_id"),
        )
        for row in rows[: GROUPS_A_PAGE + 1]
    ]  # fmt: skip
    return found[:GROUPS_A_PAGE], len(found) > GROUPS_A_PAGE


@dataclass(frozen=True, slots=True, kw_only=True)
class Share:
    """A part of the collection that can be looked at by itself: query is what the sentence then says."""

    label: str
    query: str
    tracks: int
    seconds: float
    size_bytes: int


def shares_of_collection() -> dict[str, list[Share]]:
    """The collection by format, by sample rate and by fault, the largest first, from the kept counts."""
    facets = Facet.objects.filter(tracks__gt=0)
    return {
        "Format": _shares(facets.exclude(format=""), "format", str, lambda value: f"format={quote(value)}"),
        "Sample rate": _shares(
            facets.exclude(sample_rate=0),
            "sample_rate",
            lambda value: f"{value / 1000:g}{NBSP}kHz",
            lambda value: f"rate={value}",
        ),
        "Fault": _shares(
            facets,
            "fault",
            lambda value: str(value).replace("-", " ") or "without",
            lambda value: f"fault={value or NONE}",
        ),
    }


def tracks_by_decade() -> list[tuple[str, str, int]]:
    """Label, query and number of tracks of each decade, the oldest first; those without a year at the end."""
    years = Track.objects.order_by().values_list("year").annotate(Count("pk"))
    decades: dict[int, int] = {}
    for year, tracks in years:
        decades[year // 10 * 10] = decades.get(year // 10 * 10, 0) + tracks
    dated = [
        (f"{decade}s", f"least_year={decade}&most_year={decade + 9}", decades[decade])
        for decade in sorted(decades)
        if decade
    ]
    return [*dated, *([("no year", "most_year=0", decades[0])] if 0 in decades else [])]


def lossless_part() -> Totals:
    """The lossless tracks, summed over the tracks themselves."""
    sums = Track.objects.filter(lossless=True).aggregate(n=Count("pk"), s=Sum("seconds"), b=Sum("size_bytes"))
    return Totals(tracks=sums["n"], seconds=sums["s"] or 0.0, size_bytes=sums["b"] or 0)


def _shares(
    facets: QuerySet[Facet], name: str, label: Callable[[Any], str], query: Callable[[Any], str]
) -> list[Share]:
    rows = facets.order_by().values(name).annotate(t=Sum("tracks"), s=Sum("seconds"), b=Sum("size_bytes"))
    found = [
        Share(label=label(row[name]), query=query(row[name]), tracks=row["t"], seconds=row["s"], size_bytes=row["b"])
        for row in rows
    ]
    return sorted(found, key=lambda share: -share.size_bytes)


def choices() -> dict[str, list[tuple[str, str]]]:
    """What can be put into the choices of the sentence: only what is there."""
    facets = Facet.objects.filter(tracks__gt=0)
    kinds = facets.exclude(format="").values_list("format", flat=True).distinct()
    rates = facets.exclude(sample_rate=0).values_list("sample_rate", flat=True).distinct()
    faults = facets.exclude(fault="").values_list("fault", flat=True).distinct()
    return {
        "folder": [(str(folder.pk), folder.name) for folder in SourceFolder.objects.order_by("path")],
        "format": [(kind, kind) for kind in sorted(kinds)],
        "rate": [(str(rate), f"{rate / 1000:g}{NBSP}kHz") for rate in sorted(rates)],
        "fault": [(fault, fault.replace("-", " ")) for fault in sorted(faults)],
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class FolderRow:
    """A source folder with its kept counts and its last scan."""

    folder: SourceFolder
    tracks: int
    seconds: float
    size_bytes: int
    faults: int
    missing: int
    scan: Job | None


def folder_rows() -> list[FolderRow]:
    folders = list(SourceFolder.objects.order_by("path"))
    sums = {
        row["folder"]: row
        for row in Facet.objects.values("folder").annotate(
            t=Sum("tracks"),
            s=Sum("seconds"),
            b=Sum("size_bytes"),
            f=Sum("tracks", filter=Q(fault__gt="")),
            m=Sum("tracks", filter=Q(fault="missing")),
        )
    }
    scans = Job.objects.filter(kind="scan", subject__in=[folder.pk for folder in folders])
    last = {job.subject: job for job in scans.order_by("pk")}
    rows = []
    for folder in folders:
        found = sums.get(folder.pk, {})
        rows.append(
            FolderRow(
                folder=folder,
                tracks=found.get("t") or 0,
                seconds=found.get("s") or 0.0,
                size_bytes=found.get("b") or 0,
                faults=found.get("f") or 0,
                missing=found.get("m") or 0,
                scan=last.get(folder.pk),
            )
        )
    return rows


@dataclass(frozen=True, slots=True, kw_only=True)
class SubfolderRow:
    """A folder within a source folder with all that lies below it. below is its place there, holds says that it has
    folders of its own."""

    name: str
    below: str
    tracks: int
    seconds: float
    size_bytes: int
    faults: int
    holds: bool

    @property
    def level(self) -> int:
        return self.below.count("/") + 1


MOST_SUBFOLDERS = 500


def subfolder_rows(*, folder_id: int, below: str = "") -> list[SubfolderRow]:
    """The folders right in a source folder, or in a folder of it, by name; no more than MOST_SUBFOLDERS."""
    prefix = f"{below}/" if below else ""
    inside = Q(directory__gte=prefix, directory__lt=f"{below}0") if below else Q(directory__gt="")
    sums = (
        Track.objects.filter(inside, folder=folder_id)
        .values("directory")
        .annotate(t=Count("pk"), s=Sum("seconds"), b=Sum("size_bytes"), f=Count("pk", filter=Q(fault__gt="")))
        .order_by("directory")
    )
    found: dict[str, SubfolderRow] = {}
    for row in sums.iterator():
        name, _, deeper = row["directory"][len(prefix) :].partition("/")
        one = found.get(name) or SubfolderRow(
            name=name, below=prefix + name, tracks=0, seconds=0.0, size_bytes=0, faults=0, holds=False
        )
        found[name] = replace(
            one, tracks=one.tracks + row["t"], seconds=one.seconds + (row["s"] or 0.0),
            size_bytes=one.size_bytes + (row["b"] or 0), faults=one.faults + row["f"], holds=one.holds or bool(deeper),
        )  # fmt: skip
        if len(found) > MOST_SUBFOLDERS:
            break
    return sorted(found.values(), key=lambda row: row.name.casefold())[:MOST_SUBFOLDERS]


def pull_list_of() -> PullList:
    """Of who asks, where nobody else is named."""
    found = PullList.objects.filter(owner=who_asks()).first()
    return found or PullList.objects.get_or_create(owner=who_asks())[0]


def pulled_ids() -> list[int]:
    """The ids of the pulled tracks, in the order of pulling."""
    pulls = Pull.objects.filter(pull_list__owner=who_asks(), cleared_at=None).order_by("pk")
    return list(pulls.values_list("track_id", flat=True))


def pulled_as_shown(request: HttpRequest) -> list[int]:
    """The ids of the pulled tracks. Raises SeenError where the page showed another pull list."""
    with transaction.atomic():
        refuse_unseen(request, pull_list_of().mark, what="track")
        return pulled_ids()


_IDS_A_QUERY = 900
"""SQLite limits the variables of a query."""


def _in_turns(ids: Sequence[int]) -> Iterator[Sequence[int]]:
    for start in range(0, len(ids), _IDS_A_QUERY):
        yield ids[start : start + _IDS_A_QUERY]


def titles_of(ids: Sequence[int]) -> dict[int, str]:
    """The titles of tracks by their ids."""
    found: dict[int, str] = {}
    for turn in _in_turns(ids):
        found |= dict(Track.objects.filter(pk__in=turn).values_list("pk", "title"))
    return found


@dataclass(frozen=True, slots=True)
class KnownTrack:
    """What planning needs of a track; facts is None where nothing has been read yet."""

    pk: int
    title: str
    relative: str
    folder: str
    missing: bool
    facts: Facts | None


def seconds_of(ids: Sequence[int]) -> dict[int, float]:
    """How long tracks are, by their ids."""
    return {
        pk: seconds
        for turn in _in_turns(ids)
        for pk, seconds in Track.objects.filter(pk__in=turn).values_list("pk", "seconds")
    }


def known_tracks(ids: Sequence[int]) -> list[KnownTrack]:
    """Tracks by their ids, in that order, with their facts; those that are gone are left out."""
    found: dict[int, KnownTrack] = {}
    names = ("pk", "title", "relative", "folder__path", "missing_since", "kept_facts__data")
    for turn in _in_turns(ids):
        for pk, title, relative, folder, missing, data in Track.objects.filter(pk__in=turn).values_list(*names):
            facts = restored_facts(data) if data else None
            found[pk] = KnownTrack(pk, title, relative, folder, missing is not None, facts)
    return [found[pk] for pk in ids if pk in found]


def without_wholes(tracks: QuerySet[Track]) -> QuerySet[Track]:
    """Tracks without the whole files of which parts are among them: their sound would be there twice."""
    parts = tracks.filter(cut_of__isnull=False).order_by()
    return tracks.exclude(pk__in=parts.values("cut_of"))


def facts_by_id(ids: Sequence[int]) -> dict[int, Facts]:
    """The kept facts of tracks."""
    found: dict[int, Facts] = {}
    for turn in _in_turns(ids):
        rows = TrackFacts.objects.filter(track_id__in=turn).values_list("track_id", "data")
        found |= {pk: restored_facts(data) for pk, data in rows}
    return found


def fixity_counts() -> dict[str, int]:
    """How many tracks are in each state, and how many nothing was kept of."""
    by_state = Fixity.objects.order_by().values_list("state").annotate(n=Count("pk"))
    counts = dict(by_state)
    # A scan since the last comparison knows better which files are there.
    for state, gone in by_state.filter(track__missing_since__isnull=False).exclude(state=MISSING):
        counts[state] -= gone
        counts[MISSING] = counts.get(MISSING, 0) + gone
    if back := Fixity.objects.filter(state=MISSING, track__missing_since=None).count():
        counts[MISSING] -= back
        counts[FOUND_AGAIN] = back
    return {**counts, "not kept": Track.objects.filter(cut_of=None).count() - sum(counts.values())}


def changed_files() -> QuerySet[Fixity]:
    """Everything that is not as it was kept, the worst first."""
    return (
        Fixity.objects.filter(
            ~Q(state__in=("unchanged", "kept", "from a checksum list")) | Q(track__missing_since__isnull=False)
        )
        .select_related("track", "track__folder")
        .order_by("state", "track__relative")
    )


def fixity_of(track_id: int) -> tuple[Fixity | None, list[FixityEvent]]:
    """What was kept of a track, and its history, newest first."""
    return Fixity.objects.filter(track_id=track_id).select_related("track").first(), list(
        FixityEvent.objects.filter(track_id=track_id)[:20]
    )
