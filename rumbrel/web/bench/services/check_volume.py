"""Check a volume against the list of digests that lies on it: what was delivered is there as it was, without the collection."""

from collections.abc import Sequence

from rumbrel.core.errors import OutputError
from rumbrel.core.files import sha256_of
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.fixity import read_manifest
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import VolumeRow
from .deliver_tracks import DIGESTS
from .hold_volumes import root_of, volume_of

__all__ = ["check_volume", "has_digests", "start_check"]

_MOST_NAMED = 5


def has_digests(row: VolumeRow) -> bool:
    return (root_of(row) / DIGESTS).is_file()


def start_check(*, row: VolumeRow) -> Job:
    return start_job(kind="check-volume", subject=row.pk, title=f"Check {row}", once_more=True)


def check_volume(desk: Desk, pk: int) -> str:
    """Read every file that the list names and compare its SHA-256. Returns what was found. Raises OutputError and
    ManifestError for a list that is not there or cannot be read."""
    row = VolumeRow.objects.get(pk=pk)
    volume = volume_of(row)
    try:
        wanted = read_manifest((volume.root / DIGESTS).read_text("utf-8", "surrogateescape"))
    except OSError as error:
        raise OutputError(f"{row} has no list of digests, {DIGESTS}. Deliver with one to check it later.") from error
    changed, missing = [], []
    for number, (name, digest) in enumerate(sorted(wanted.items()), 1):
        path = volume.root / name
        inside = path.resolve().is_relative_to(volume.root.resolve())
        try:
            if not inside or sha256_of(path) != digest:
                changed.append(name)
        except FileNotFoundError:
            missing.append(name)
        except OSError as error:
            changed.append(f"{name} ({error.strerror})")
        desk.report(
            Progress(
                done=number, total=len(wanted), unit=Unit.FILES, step="comparing", finished=number, items=len(wanted)
            )
        )
    if not volume.is_there:
        raise OutputError(f"{row} was removed while it was being checked. Plug it in, then check again.")
    desk.failures = len(changed) + len(missing)
    same = counted(len(wanted) - desk.failures, "file is", "files are")
    said = [f"{same} as {'it was' if len(wanted) - desk.failures == 1 else 'they were'} delivered"]
    said += [_named(changed, "changed")] if changed else []
    said += [_named(missing, "missing")] if missing else []
    return f"{'; '.join(said)}."


def _named(names: Sequence[str], what: str) -> str:
    more = f" and {len(names) - _MOST_NAMED:,} more" if len(names) > _MOST_NAMED else ""
    return f"{len(names):,} {what}: {', '.join(names[:_MOST_NAMED])}{more}"
