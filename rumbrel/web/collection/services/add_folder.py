"""Source folders: remembered below the allowed roots, and scanned."""

from pathlib import Path

from django.conf import settings

from rumbrel.core.errors import RumbrelError
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import start_job

from ..facts import KEPT_VERSION, kept_path
from ..models import SourceFolder, Track

__all__ = ["FolderRefused", "add_folder", "allowed_roots", "believe_loss", "reread_old_facts", "start_scan"]


class FolderRefused(RumbrelError):
    """A folder that may not be read as a source folder."""


def add_folder(*, path: str) -> SourceFolder:
    """Remember a folder below the allowed roots, links resolved first, and scan it. Raises FolderRefused."""
    folder, _ = SourceFolder.objects.get_or_create(path=kept_path(_allowed(path)))
    start_scan(folder=folder)
    return folder


def _allowed(text: str) -> Path:
    ours = settings.RUMBREL
    if not text.strip() or "\0" in text:
        raise FolderRefused("Name a folder, for example one of those below.")
    try:
        path = Path(text.strip()).expanduser().resolve()
        is_folder = path.is_dir()
    except (OSError, RuntimeError, ValueError) as error:
        raise FolderRefused(f"{text.strip()[:200]} is not a folder. Check the spelling.") from error
    if not any(path.is_relative_to(root) for root in allowed_roots()):
        roots = " and ".join(str(root) for root in ours.roots)
        raise FolderRefused(f"Rumbrel may only read below {roots}. RUMBREL_ROOTS says so; start it with more folders.")
    if not is_folder:
        raise FolderRefused(f"{path} is not a folder. Check the spelling, and that its disk is connected.")
    return path


def allowed_roots() -> tuple[Path, ...]:
    """The folders, links resolved, below which everything that is read lies."""
    ours = settings.RUMBREL
    return tuple(root.resolve() for root in (*ours.roots, ours.dropped, ours.results))


def believe_loss(*, folder: SourceFolder) -> Job:
    """The user says that the files are gone indeed: the next scan marks their tracks as missing."""
    SourceFolder.objects.filter(pk=folder.pk).update(loss_believed=True)
    return start_scan(folder=folder)


def start_scan(*, folder: SourceFolder) -> Job:
    """Queue a scan; one that is under way is done once more."""
    # A scan under way may have passed by what this one is for.
    return start_job(kind="scan", subject=folder.pk, title=f"Scan of {folder.name}", once_more=True)


def reread_old_facts() -> int:
    """Scan the folders of which an older inspection's facts are kept; returns how many there are."""
    outdated = SourceFolder.objects.filter(
        pk__in=Track.objects.filter(missing_since=None, cut_of=None)
        .exclude(facts_version=KEPT_VERSION)
        .values("folder")
    )
    for folder in outdated:
        start_scan(folder=folder)
    return len(outdated)
