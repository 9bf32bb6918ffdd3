"""The user's own targets: TOML files in the data folder, every earlier version kept beside them."""

import re
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.utils.text import slugify

from rumbrel.core.errors import TargetError
from rumbrel.core.files import output_errors, write_whole
from rumbrel.core.targets import Target
from rumbrel.core.targets.catalogue import own_targets, shipped_targets, shipped_text
from rumbrel.core.targets.parsing import parse_target

__all__ = [
    "keep_target",
    "last_version",
    "put_back_target",
    "remove_target",
    "target_text",
    "target_versions",
    "version_of",
]


def _file(slug: str) -> Path:
    return settings.RUMBREL.targets / f"{slug}.toml"


def _versions(slug: str) -> Path:
    return settings.RUMBREL.targets / "versions" / slug


def target_text(slug: str) -> str:
    """A target's TOML, as it was written. Raises TargetError where there is no such target."""
    if slug in {target.slug for target in shipped_targets()}:
        return shipped_text(slug)
    if slug not in {target.slug for target in own_targets().targets}:
        raise TargetError(f"There is no target '{slug[:80]}'.")
    return _file(slug).read_text(encoding="utf-8")


def keep_target(*, text: str, slug: str = "") -> Target:
    """Keep a target of the user's own: a new one, called after its name, or another version of one there is. Raises
    TargetError with what is wrong, and then nothing is kept."""
    text = text.replace("\r\n", "\n")
    shipped = {target.slug for target in shipped_targets()}
    own = {target.slug for target in own_targets().targets}
    if slug and slug not in own:
        raise TargetError("The targets that ship with Rumbrel stay as they are. Make a copy, and edit that.")
    target = parse_target(text, slug=slug or "own")
    slug = slug or _free_slug(target.name, shipped | own)
    target = parse_target(text, slug=slug)
    if _file(slug).exists():
        _keep_version(slug)
    with output_errors(settings.RUMBREL.targets):
        write_whole(_file(slug), text)
    return target


def _free_slug(name: str, taken: set[str]) -> str:
    start = slugify(name)[:60].strip("-_").replace("_", "-") or "own"
    start = re.sub(r"-+", "-", start)
    number, slug = 1, start
    while slug in taken or _file(slug).exists():
        number += 1
        slug = f"{start}-{number}"
    return slug


def _keep_version(slug: str) -> None:
    count = sum(1 for _ in _versions(slug).glob("*.toml")) if _versions(slug).exists() else 0
    with output_errors(settings.RUMBREL.targets):
        write_whole(_versions(slug) / f"{count + 1:04d}.toml", _file(slug).read_bytes())


def remove_target(*, slug: str) -> None:
    """Take an own target away; its last version can be put back. Raises TargetError for one of the catalogue."""
    if slug not in {target.slug for target in own_targets().targets}:
        raise TargetError("Only targets of your own can be removed.")
    _keep_version(slug)
    with output_errors(settings.RUMBREL.targets):
        _file(slug).unlink()


def put_back_target(*, slug: str) -> None:
    """The last version of a removed target. Raises TargetError where there is none, or the name is taken again."""
    versions = sorted(_versions(slug).glob("*.toml")) if re.fullmatch(r"[a-z0-9-]+", slug) else []
    if not versions or _file(slug).exists():
        raise TargetError("That target cannot be restored: it is there already, or never existed.")
    write_whole(_file(slug), versions[-1].read_bytes())


def target_versions(slug: str) -> list[tuple[int, datetime]]:
    """(number, when it was replaced) of the earlier versions of an own target, the newest first."""
    files = sorted(_versions(slug).glob("[0-9]*.toml"), reverse=True) if re.fullmatch(r"[a-z0-9-]+", slug) else []
    return [(int(path.stem), datetime.fromtimestamp(path.stat().st_mtime, tz=UTC)) for path in files]


def last_version(slug: str) -> Target:
    """The last version that was kept of an own target. Raises TargetError where there is none."""
    return version_of(slug, max((number for number, _ in target_versions(slug)), default=0))


def version_of(slug: str, number: int) -> Target:
    """An earlier version of an own target. Raises TargetError where there is none."""
    path = _versions(slug) / f"{number:04d}.toml"
    if number not in {each for each, _ in target_versions(slug)}:
        raise TargetError("There is no such version of this target.")
    return parse_target(path.read_text(encoding="utf-8"), slug=slug)
