"""A disc of files laid out in bytes: for players of compressed files, or for computers. As with sound, nothing is
opened here, and each offer was worked out to its end."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import accumulate
from pathlib import Path

from rumbrel.core.disc.checklist import Finding
from rumbrel.core.disc.data_disc import DataFile, data_sectors
from rumbrel.core.disc.design import DiscDesign, TrackDesign, divided, left_out
from rumbrel.core.disc.layout import radius_mm
from rumbrel.core.disc.media import Medium, medium_for, smallest_medium
from rumbrel.core.disc.packing import full_runs, pack
from rumbrel.core.disc.subsets import smallest_cover, smallest_cover_of
from rumbrel.core.inlay import InlayContents, InlayTrack
from rumbrel.core.targets.pattern import filled_pattern
from rumbrel.core.verdict import Verdict

from .offer_disc import DesignOffer

__all__ = ["DataPlan", "DataRow", "FileToCome", "data_file", "data_offers", "files_inlay", "plan_data"]

_MOST_TRACKS = 10_000


@dataclass(frozen=True, slots=True, kw_only=True)
class FileToCome:
    """A file as it will lie on the disc: name and folder as they are wished, and why there will be none. exact says
    that its bytes are known and not foreseen. values are what a pattern of names finds of it."""

    title: str
    performer: str
    folder: str
    name: str
    size_bytes: int
    exact: bool
    action: str = ""
    reason: str = ""
    seconds: float = 0.0
    values: Mapping[str, str | int | None] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class DataRow:
    """A row of the list, where it will lie on the disc and under what name; sectors are what it takes, 0 for one that is
    left out or cannot be used."""

    design: TrackDesign
    file: FileToCome
    folder: str = ""
    name: str = ""
    number: int = 0
    sectors: int = 0

    @property
    def reason(self) -> str:
        return self.file.reason


@dataclass(frozen=True, slots=True, kw_only=True)
class DataPlan:
    """The list in sectors of 2,048 bytes against the blank."""

    design: DiscDesign
    medium: Medium
    rows: tuple[DataRow, ...]
    total_sectors: int
    findings: tuple[Finding, ...]

    @property
    def free_sectors(self) -> int:
        return self.medium.capacity_sectors - self.total_sectors

    @property
    def fits(self) -> bool:
        return any(row.sectors for row in self.rows) and self.free_sectors >= 0

    @property
    def failed(self) -> Finding | None:
        return next((finding for finding in self.findings if finding.verdict is Verdict.FAILED), None)

    @property
    def writable(self) -> bool:
        return self.failed is None and self.fits


def data_file(row: DataRow, path: str) -> DataFile:
    """What is to be written of a row whose file is there."""
    return DataFile(path=Path(path), folder=row.folder, name=row.name)


def _placed(design: DiscDesign, file: FileToCome, number: int) -> tuple[str, str]:
    """(folder, name) of a file. The order of the list goes into the names where it is asked for: players of files walk
    them by name."""
    if design.name_pattern and file.values:
        *folders, stem = filled_pattern(design.name_pattern, {**file.values, "number": number})
        return "/".join(folders), stem + Path(file.name).suffix
    if design.numbered:
        return "", f"{number:03d} {file.name}"
    return file.folder, file.name


def plan_data(design: DiscDesign, files: Mapping[int, FileToCome]) -> DataPlan:
    """Lay out and judge; files are by the sounds' ids."""
    medium = medium_for(design.medium_key)
    rows, number = [], 0
    for track in design.tracks:
        file = files.get(track.source_id) or FileToCome(
            title="a track that left the collection", performer="", folder="", name="", size_bytes=0, exact=True,
            reason="It left the collection.",
        )  # fmt: skip
        counts = not track.left_out and not file.reason
        number += counts
        sectors = data_sectors([("", file.size_bytes)]) - data_sectors([]) if counts else 0
        folder, name = _placed(design, file, number) if counts else ("", "")
        rows.append(
            DataRow(design=track, file=file, folder=folder, name=name, number=number if counts else 0, sectors=sectors)
        )
    total = _total(rows)
    return DataPlan(
        design=design, medium=medium, rows=tuple(rows), total_sectors=total,
        findings=tuple(_findings(medium, rows, total)),
    )  # fmt: skip


def _total(rows: Sequence[DataRow]) -> int:
    kept = [row for row in rows if row.sectors]
    if not kept:
        return 0
    return data_sectors([(row.folder, row.file.size_bytes) for row in kept])


def _findings(medium: Medium, rows: Sequence[DataRow], total: int) -> list[Finding]:
    found = []
    for row in rows:
        if row.file.reason and not row.design.left_out:
            reason = row.file.reason
            text = f"{row.file.title} cannot be used: {reason[0].lower()}{reason[1:].rstrip('.')}. Or leave it out"
            found.append(Finding(code="unusable", verdict=Verdict.FAILED, text=text))
    kept = [row for row in rows if row.sectors]
    if not kept:
        found.append(Finding(code="count", verdict=Verdict.FAILED, text="there are no tracks yet"))
        return found
    over = total - medium.capacity_sectors
    megabytes = abs(over) * 2048 / 1e6
    if over > 0:
        text = f"runs over by {megabytes:,.1f} MB; leave out a track or take another blank"
        found.append(Finding(code="total", verdict=Verdict.FAILED, text=text))
    else:
        text = f"{megabytes:,.1f} MB free on the {medium.label}"
        found.append(Finding(code="total", verdict=Verdict.PASSED, text=text))
    if not all(row.file.exact for row in kept):
        text = "sizes are estimates until the files are made, before the disc is written"
        found.append(Finding(code="sizes", verdict=Verdict.PASSED, text=text))
    names = [f"{row.folder}/{row.name}".casefold() for row in kept]
    if len(set(names)) < len(names):
        text = "some files have one name; those after the first get a number behind it"
        found.append(Finding(code="names", verdict=Verdict.PASSED, text=text))
    return found


def files_inlay(planned: DataPlan, *, title: str) -> InlayContents:
    """What is printed for a disc of files."""
    kept = [row for row in planned.rows if row.sectors]
    performers = {row.file.performer for row in kept}
    common = performers.pop() if len(performers) == 1 else ""
    at, tracks, pitch = 0, [], planned.medium.pitch_um
    for row in kept:
        tracks.append(
            InlayTrack(
                number=row.number, title=row.file.title, performer="" if common else row.file.performer,
                seconds=row.file.seconds, start_sector=at, sectors=row.sectors, from_mm=radius_mm(at, pitch_um=pitch),
                to_mm=radius_mm(at + row.sectors, pitch_um=pitch),
            )
        )  # fmt: skip
        at += row.sectors
    endings = sorted({Path(row.name).suffix[1:].upper() for row in kept})
    return InlayContents(
        title=title, performer=common, tracks=tuple(tracks), seconds=sum(row.file.seconds for row in kept),
        total_sectors=planned.total_sectors, capacity_sectors=planned.medium.capacity_sectors,
        kind=f"{', '.join(endings)} files", step_sectors=1e6 / DATA_BYTES_PER_SECTOR, steps_apart=100,
    )  # fmt: skip


DATA_BYTES_PER_SECTOR = 2048


def data_offers(planned: DataPlan, files: Mapping[int, FileToCome]) -> tuple[DesignOffer, ...]:
    """What would make it fit. None for a disc that fits."""
    if planned.free_sectors >= 0:
        return ()
    design, over = planned.design, -planned.free_sectors
    kept = [row for row in planned.rows if row.sectors]
    costs = [row.sectors for row in kept]
    found: list[DesignOffer] = []
    fewest, proved = smallest_cover_of(costs, over)
    for kind, positions, sure in (("fewest", fewest, proved), ("shortest", smallest_cover(costs, over), True)):
        if len(positions) == len(kept) or not positions:
            continue
        numbers = [str(kept[at].number) for at in positions]
        shown = ", ".join(numbers[:8]) + (" and more" if len(numbers) > 8 else "")
        word = "track" if len(numbers) == 1 else "tracks"
        one = left_out(design, {kept[at].design.key for at in positions}, True)
        total = plan_data(one, files).total_sectors
        saved = (planned.total_sectors - total) * 2048 / 1e6
        text = f"leave out {word} {shown}: saves {saved:,.1f} MB"
        if all(each.text != text for each in found):
            found.append(_offer(kind, text, [one], [total], planned.medium, sure))
    capacity = planned.medium.capacity_sectors - data_sectors([])
    ends = list(accumulate(costs, initial=0))

    def total_of(start: int, end: int) -> int:
        return ends[end] - ends[start]

    for kind, words, runs in (
        ("fill", "in order, each filled", full_runs(len(costs), total_of, capacity, most_pieces=_MOST_TRACKS)),
        ("free", "in any order", _packed(costs, capacity)),
    ):
        designs = divided(design, [[kept[at].design.key for at in run] for run in runs])
        if len(designs) < 2 or any(tuple(designs) == each.designs for each in found):
            continue
        totals = [plan_data(one, files).total_sectors for one in designs]
        sizes = " + ".join(f"{total * 2048 / 1e6:,.0f}" for total in totals[:8])
        text = f"{len(designs)} discs {words}: {sizes}{' and more' if len(totals) > 8 else ''} MB"
        found.append(_offer(kind, text, designs, totals, planned.medium, False))
    medium = smallest_medium(planned.total_sectors)
    if medium is not None:
        one = replace(design, medium_key=medium.key)
        doubt = ", which some drives and players refuse" if medium.beyond_standard else ""
        found.append(
            _offer(f"medium-{medium.key}", f"{medium.a_label}{doubt}", [one], [planned.total_sectors], medium, True)
        )
    return tuple(found)


def _packed(costs: Sequence[int], capacity: int) -> list[list[int]]:
    packed = pack([min(cost, capacity) for cost in costs], capacity, most_pieces=_MOST_TRACKS)
    return sorted((sorted(disc) for disc in packed.discs), key=lambda disc: disc[0])


def _offer(
    key: str, text: str, designs: Sequence[DiscDesign], totals: Sequence[int], medium: Medium, proved: bool
) -> DesignOffer:
    return DesignOffer(
        key=key, text=text, designs=tuple(designs), total_sectors=tuple(totals), proved=proved,
        fits=all(total <= medium.capacity_sectors for total in totals),
    )  # fmt: skip
