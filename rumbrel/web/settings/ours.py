"""The settings that are Rumbrel's own. Everything a user may set is an environment variable, read once."""

import ipaddress
import os
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

__all__ = ["Rumbrel", "default_data", "read_environment", "secret_key"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Rumbrel:
    """Where things are and what is on. roots are the folders below which source folders may lie.

    bind is the address at which browsers are answered, hosts the names under which they ask for it, where that is not
    this machine alone; behind_https says that a proxy on this machine ends TLS before it. asks_sign_in has accounts
    count on this machine too. redis_url is where the work list of several machines lies, "" for none; mounts says, on a
    machine that lends its cores, where the serving machine's folders lie here: (there, here).
    """

    data: Path
    roots: tuple[Path, ...]
    port: str = "8321"
    bind: str = "127.0.0.1"
    hosts: tuple[str, ...] = ()
    behind_https: bool = False
    asks_sign_in: bool = False
    shows_gallery: bool = False
    shows_tour: bool = False
    redis_url: str = ""
    mounts: tuple[tuple[Path, Path], ...] = ()
    log_form: str = "lines"
    log_level: str = "INFO"
    most_picture_bytes: int = 4_000_000_000
    most_listening_bytes: int = 4_000_000_000
    largest_drop_bytes: int = 8_000_000_000
    most_dropped_files: int = 2_000

    @property
    def is_open(self) -> bool:
        """Whether others than this machine can ask."""
        if self.bind == "localhost":
            return False
        try:
            return not ipaddress.ip_address(self.bind).is_loopback
        except ValueError:
            return True

    @property
    def has_accounts(self) -> bool:
        return self.is_open or self.asks_sign_in

    @property
    def results(self) -> Path:
        return self.data / "results"

    @property
    def dropped(self) -> Path:
        return self.data / "dropped"

    @property
    def discs(self) -> Path:
        return self.data / "discs"

    @property
    def shelf(self) -> Path:
        """Images that can be put into the stand-in drives: the demo's, and the user's own."""
        return self.data / "shelf"

    @property
    def volumes(self) -> Path:
        """The folders that are stand-in sticks and cards, and what is made for them before it is copied."""
        return self.data / "volumes"

    @property
    def reading(self) -> Path:
        """Tracks of discs that were read and are not made into results yet."""
        return self.data / "reading"

    @property
    def pictures(self) -> Path:
        """Pictures of the sound of tracks that were checked."""
        return self.data / "pictures"

    @property
    def listening(self) -> Path:
        """Tracks decoded to be heard; it may be emptied at any time."""
        return self.data / "listening"

    @property
    def undo(self) -> Path:
        """What edits of tags changed, so that it can be put back."""
        return self.data / "undo"

    @property
    def covers(self) -> Path:
        """Pictures that were chosen for results alone."""
        return self.data / "covers"

    @property
    def targets(self) -> Path:
        """The user's own targets, and their earlier versions."""
        return self.data / "targets"

    @property
    def ledger(self) -> Path:
        return self.data / "ledger"


def default_data(checkout: Path | None, environment: Mapping[str, str] = os.environ) -> Path:
    """Where data lies that RUMBREL_DATA gives no place: in the checkout, or where a user's data belongs (XDG Base
    Directory Specification, XDG_DATA_HOME)."""
    if checkout is not None:
        return checkout / ".data"
    home = Path(environment.get("XDG_DATA_HOME") or "")
    return (home if home.is_absolute() else Path.home() / ".local" / "share") / "rumbrel"


def read_environment(data_folder: Path, environment: Mapping[str, str] = os.environ) -> Rumbrel:
    """Every variable whose name begins with RUMBREL_, with its default."""
    data = Path(environment.get("RUMBREL_DATA") or data_folder).resolve()
    named = tuple(Path(part).resolve() for part in environment.get("RUMBREL_ROOTS", "").split(":") if part)
    return Rumbrel(
        data=data,
        roots=named or (data / "demo", Path.home()),
        port=environment.get("RUMBREL_PORT", "8321"),
        bind=environment.get("RUMBREL_BIND") or "127.0.0.1",
        hosts=tuple(name.strip() for name in environment.get("RUMBREL_HOSTS", "").split(",") if name.strip()),
        behind_https=environment.get("RUMBREL_HTTPS") == "1",
        redis_url=environment.get("RUMBREL_REDIS_URL", ""),
        mounts=_mounts(environment.get("RUMBREL_MOUNTS", "")),
        log_form="json" if environment.get("RUMBREL_LOG") == "json" else "lines",
        log_level=_level(environment.get("RUMBREL_LOG_LEVEL", "")),
        most_picture_bytes=_gigabytes(environment.get("RUMBREL_PICTURES_GB", "")),
        most_listening_bytes=_gigabytes(environment.get("RUMBREL_LISTENING_GB", "")),
        asks_sign_in=environment.get("RUMBREL_ACCOUNTS") == "1",
        shows_gallery=environment.get("RUMBREL_GALLERY") == "1",
        shows_tour=environment.get("RUMBREL_TOUR") == "1",
    )


def _mounts(text: str) -> tuple[tuple[Path, Path], ...]:
    """there=here, with commas between the pairs."""
    pairs = (part.partition("=") for part in text.split(",") if "=" in part)
    return tuple((Path(there.strip()), Path(here.strip())) for there, _, here in pairs if here.strip())


_USUAL_GB = 4.0


def _gigabytes(text: str) -> int:
    """Bytes; the usual limit where nothing that counts is said."""
    try:
        wanted = float(text or _USUAL_GB)
    except ValueError:
        wanted = _USUAL_GB
    return round((wanted if 0.01 <= wanted <= 1_000_000 else _USUAL_GB) * 1e9)


def _level(text: str) -> str:
    return text.upper() if text.upper() in ("DEBUG", "INFO", "WARNING", "ERROR") else "INFO"


def own_folder(data: Path) -> None:
    """The data folder, readable by its owner alone: it holds the key, the collection and what was made of it."""
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    status = data.stat()
    if status.st_uid == os.geteuid() and status.st_mode & 0o077:
        data.chmod(0o700)


def secret_key(data: Path) -> str:
    """A key of this installation's own, made at the first start and readable by its owner alone.

    It appears whole or not at all: a disk that was full at the first start leaves no empty key behind.
    """
    path = data / "secret-key"
    own_folder(data)
    if not path.exists() or not path.read_text():
        working = path.with_name(f".{path.name}.{os.getpid()}.part")
        try:
            with os.fdopen(os.open(working, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
                file.write(secrets.token_urlsafe(50))
            if path.exists() and not path.read_text():
                path.unlink()
            # A link fails where another start was first; then both use its key.
            os.link(working, path)
        except FileExistsError:
            pass
        finally:
            working.unlink(missing_ok=True)
    return path.read_text()
