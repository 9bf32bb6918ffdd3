"""Two hands on one installation: what one presses is what that one saw, or is refused; whatever the other did meanwhile."""

import hashlib
import os
import random
import re
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from html.parser import HTMLParser
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from django.test import Client

_REFUSED = "Nothing was done"
_LEFT_ALONE = re.compile(r"/(stop|sign-out|accounts|work|jobs)/|backup|/tour/|check/")
"""Presses that say nothing of files and lists, or end what is to go on."""


@dataclass(slots=True)
class Form:
    """A form of a page that is sent by POST, as it stands there."""

    action: str
    data: dict[str, list[str]] = field(default_factory=dict)
    choices: dict[str, list[str]] = field(default_factory=dict)
    buttons: list[tuple[str, str]] = field(default_factory=list)

    @property
    def seen(self) -> str:
        return self.data.get("seen", [""])[0]

    def filled(self, chance: random.Random, *, wildly: bool) -> dict[str, list[str]]:
        """With one of its buttons; wildly with other choices than those that stand there."""
        data = {name: list(values) for name, values in self.data.items()}
        if wildly:
            for name, values in self.choices.items():
                if values and chance.random() < 0.5:
                    data[name] = [chance.choice(values)]
        if self.buttons:
            name, value = chance.choice(self.buttons)
            if name:
                data[name] = [value]
        return data


class _Reader(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.forms: list[Form] = []
        self._form: Form | None = None
        self._select = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        found = {name: value or "" for name, value in attrs}
        if tag == "form" and found.get("method", "").lower() == "post":
            self._form = Form(found.get("action", ""))
            self.forms.append(self._form)
        form, name = self._form, found.get("name", "")
        if form is None:
            return
        if tag == "input" and name and found.get("type") not in ("submit", "file"):
            ticks = found.get("type") in ("checkbox", "radio")
            if ticks:
                form.choices.setdefault(name, []).append(found.get("value", "on"))
            if not ticks or "checked" in found:
                form.data.setdefault(name, []).append(found.get("value", "on" if ticks else ""))
        elif tag == "select":
            self._select = name
            form.choices.setdefault(name, [])
        elif tag == "option" and self._select:
            form.choices[self._select].append(found.get("value", ""))
            if "selected" in found or self._select not in form.data:
                form.data[self._select] = [found.get("value", "")]
        elif tag == "button" and found.get("type", "submit") == "submit":
            form.buttons.append((name, found.get("value", "")))

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._form = None
        elif tag == "select":
            self._select = ""


def forms_of(page: str) -> list[Form]:
    reader = _Reader()
    reader.feed(page)
    return [form for form in reader.forms if not _LEFT_ALONE.search(form.action)]


def hands(rounds: int, seed: int) -> int:
    """Random presses of two, so many rounds; prints what was wrong and returns how many findings."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        (folder / "roots" / "source").mkdir(parents=True)
        os.environ |= {
            "RUMBREL_DATA": str(folder / "data"), "RUMBREL_ROOTS": str(folder / "roots"),
            "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base",
        }  # fmt: skip
        import django

        django.setup()
        return _Table(folder, random.Random(seed)).play(rounds)


class _Table:
    """An installation with a little of everything, and two who use it."""

    def __init__(self, folder: Path, chance: random.Random) -> None:
        from django.core.management import call_command
        from django.test import Client

        self._folder, self._chance = folder, chance
        call_command("migrate", verbosity=0)
        self._one: Client = Client(SERVER_NAME="localhost")
        self._other: Client = Client(SERVER_NAME="localhost")
        self.found: list[str] = []
        self.acted: Counter[str] = Counter()
        self._fill()

    def _fill(self) -> None:
        from tests.signals import write_sound

        for number in range(6):
            write_sound(self._folder / "roots" / "source" / "in" / f"{number}.flac", 44_100 * 5, seed=number)
        self._gather()
        self._one.post("/playlists/make/", {"name": "First"})

    def _gather(self) -> None:
        """A folder that one of them removed is there again, and its tracks are pulled."""
        from rumbrel.web.collection.models import Track
        from rumbrel.web.collection.services import add_folder

        if not Track.objects.exists():
            add_folder(path=str(self._folder / "roots" / "source"))
            self._work()
        self._one.post("/pull/all/")

    def _work(self) -> None:
        from rumbrel.web.jobs.models import Job
        from rumbrel.web.jobs.services import run_job

        for pk in list(Job.objects.filter(state=Job.State.WAITING).values_list("pk", flat=True)):
            run_job(job_id=pk)

    def play(self, rounds: int) -> int:
        for number in range(1, rounds + 1):
            self._round()
            if number % 5 == 0:
                self._work()
                self._gather()
        for line in self.found:
            print(line)
        done = ", ".join(f"{action} {count}" for action, count in sorted(self.acted.items()))
        print(f"{rounds} rounds of two hands, {len(self.found)} findings. Pressed with a mark: {done}.")
        return len(self.found)

    def _pages(self) -> list[str]:
        from rumbrel.web.batches.models import Batch
        from rumbrel.web.bench.models import VolumeRow
        from rumbrel.web.collection.models import SourceFolder
        from rumbrel.web.discs.models import Disc
        from rumbrel.web.playlists.models import Playlist

        return [
            "/", "/batches/forecast/?target=car-mp3", "/batches/forecast/?target=archive-flac&target=car-mp3", "/tags/",
            "/fixity/", "/folders/", "/playlists/", "/discs/", "/bench/", "/targets/car-mp3/edit/",
            *(f"/folders/{pk}/remove/" for pk in SourceFolder.objects.values_list("pk", flat=True)),
            *(f"/playlists/{pk}/" for pk in Playlist.objects.values_list("pk", flat=True)[:3]),
            *(f"/discs/{pk}/" for pk in Disc.objects.values_list("pk", flat=True)[:3]),
            *(f"/discs/{pk}/write/" for pk in Disc.objects.values_list("pk", flat=True)[:2]),
            *(f"/batches/{pk}/originals/" for pk in Batch.objects.values_list("pk", flat=True)[:3]),
            *(f"/bench/volume/{pk}/" for pk in VolumeRow.objects.values_list("pk", flat=True)[:2]),
        ]  # fmt: skip

    def _forms(self, client: "Client", page: str) -> list[Form]:
        answer = client.get(page, follow=True)
        return forms_of(answer.content.decode()) if answer.status_code == 200 else []

    def _round(self) -> None:
        page = self._chance.choice(self._pages())
        marked = [form for form in self._forms(self._one, page) if form.seen]
        if not marked:
            return
        form = self._chance.choice(marked)
        for _ in range(self._chance.randrange(3)):
            self._press_something()
        now = next(
            (each.seen for each in self._forms(self._one, page) if each.action == form.action and each.seen), None
        )
        before = self._state()
        answer = self._one.post(form.action, form.filled(self._chance, wildly=False), follow=True)
        changed, refused = self._state() != before, _REFUSED in answer.content.decode()
        self.acted[re.sub(r"\d+", "N", form.action)] += 1
        said = f"{form.action} from {page}"
        if answer.status_code >= 500:
            self.found.append(f"{said}: answers {answer.status_code}")
        if now != form.seen and changed:
            self.found.append(f"{said}: done, though the page showed {form.seen} and would show {now}")
        if now == form.seen and refused:
            self.found.append(f"{said}: refused, though what was shown is so")

    def _press_something(self) -> None:
        forms = self._forms(self._other, self._chance.choice(self._pages()))
        if not forms:
            return
        form = self._chance.choice(forms)
        answer = self._other.post(form.action, form.filled(self._chance, wildly=True), follow=True)
        if answer.status_code >= 500:
            self.found.append(f"{form.action} {form.data}: answers {answer.status_code}")

    def _state(self) -> str:
        """All rows but those of sessions, and all files with their sizes and times."""
        from django.db import connection

        digest = hashlib.sha256()
        with connection.cursor() as cursor:
            cursor.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%'")
            for (table,) in cursor.fetchall():
                if table not in ("django_session", "sqlite_sequence"):
                    cursor.execute(f'SELECT * FROM "{table}"')  # noqa: S608 - names from the database itself
                    digest.update(repr((table, cursor.fetchall())).encode())
        places: list[Any] = []
        for root in (self._folder / "roots", self._folder / "data" / "results"):
            places += sorted(
                (str(path), path.stat().st_size, path.stat().st_mtime_ns) for path in root.rglob("*") if path.is_file()
            )
        digest.update(repr(places).encode())
        return digest.hexdigest()
