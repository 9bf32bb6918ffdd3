"""The work list in Redis, which several machines take steps from: what is kept there, and under which keys.

A task is a group of steps of one source, as JSON: a frozen value that needs no database. Whoever takes one moves it into
his own hand, and says every few seconds that he lives; what lies in the hand of one who does not is taken up again.
"""

import hashlib
import json
import os
import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rumbrel.core.errors import RumbrelError
from rumbrel.core.files import content_mark
from rumbrel.core.forecast.steps import Step
from rumbrel.core.records import as_record, from_record

__all__ = ["SECONDS_ALIVE", "SECONDS_BETWEEN_BEATS", "Machine", "Task", "WorkList", "WorkListLost", "connected"]

SECONDS_BETWEEN_BEATS = 3
SECONDS_ALIVE = 15
"""So long is somebody believed to live who says nothing."""
_KEPT_SECONDS = 7 * 24 * 3600


class WorkListLost(RumbrelError):
    """The work list cannot be reached."""


def connected(address: str) -> Any:
    """A client of the Redis at an address such as redis://host:6379/0. Raises WorkListLost for one that cannot be."""
    import redis

    try:
        client = redis.Redis.from_url(address, decode_responses=True, socket_timeout=30, health_check_interval=15)
        client.ping()
    except (redis.RedisError, ValueError) as error:
        raise WorkListLost(
            "The work list in Redis cannot be reached. See that its server runs and that RUMBREL_REDIS_URL is right."
        ) from error
    return client


@dataclass(frozen=True, slots=True, kw_only=True)
class Task:
    """Steps of one source. run tells the work that they belong to, tries how often somebody died over them."""

    id: str
    run: str
    steps: tuple[Step, ...]
    tries: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Machine:
    """One who takes work: speed is seconds of sound a second, 0.0 before the first result; refusal why it gave the last
    task back, "" where it did not."""

    name: str
    alive: bool
    doing: str
    finished: int
    speed: float
    refusal: str


class WorkList:
    """All that is said between who has work done and who does it. Raises WorkListLost where Redis cannot be reached."""

    def __init__(self, client: Any, prefix: str = "rumbrel") -> None:
        self._redis, self._prefix = client, prefix

    def _key(self, *parts: str) -> str:
        return ":".join((self._prefix, *parts))

    # What who has work done says and hears.

    def put(self, task: Task) -> None:
        """Have a task done, behind those that wait."""
        body = json.dumps({"run": task.run, "tries": task.tries, "steps": [as_record(step) for step in task.steps]})
        for step in task.steps:
            self._redis.set(self._of_output("owner", step.output), task.id, ex=_KEPT_SECONDS)
        self._redis.set(self._key("task", task.id), body, ex=_KEPT_SECONDS)
        self._redis.rpush(self._key("waiting"), task.id)

    def owners(self, outputs: Sequence[str]) -> set[str]:
        """The tasks that were last to make these results, unless they were heard of."""
        keys = [self._of_output("owner", output) for output in outputs]
        return {task for task in (self._redis.mget(keys) if keys else ()) if task is not None}

    def disown(self, outputs: Sequence[str]) -> None:
        """Nobody makes these results any more."""
        self._redis.delete(*(self._of_output("owner", output) for output in outputs))

    def ended(self, run: str, *, seconds: float) -> Iterator[tuple[str, list[dict[str, Any]], str]]:
        """(task, what became of its steps, who did it) of what ended by now; waits so long for the first."""
        key = self._key("ended", run)
        first = self._redis.blpop([key], timeout=seconds)
        while first is not None:
            said = json.loads(first[1])
            yield said["id"], said["outcomes"], said["by"]
            rest = self._redis.lpop(key)
            first = None if rest is None else (key, rest)

    def shares(self, run: str) -> dict[str, float]:
        return {task: float(share) for task, share in self._redis.hgetall(self._key("shares", run)).items()}

    def orphans(self) -> list[str]:
        """Tasks in the hands of those who do not live any more; they are in nobody's hand then. Who has not been heard of
        for days is forgotten."""
        found = []
        for name in self._redis.smembers(self._key("workers")):
            if self._redis.exists(self._key("alive", name)):
                continue
            while (task := self._redis.lpop(self._key("hand", name))) is not None:
                found.append(task)
            if not self._redis.exists(self._key("info", name)):
                self._redis.srem(self._key("workers"), name)
        return found

    def again(self, task_id: str) -> None:
        """An orphan waits again, whoever's it is."""
        key = self._key("task", task_id)
        body = self._redis.get(key)
        if body is None:
            return
        said = json.loads(body)
        said["tries"] += 1
        self._redis.set(key, json.dumps(said), ex=_KEPT_SECONDS)
        self._redis.lpush(self._key("waiting"), task_id)

    def tries(self, task_id: str) -> int | None:
        """None for a task that the list does not know any more."""
        body = self._redis.get(self._key("task", task_id))
        return int(json.loads(body)["tries"]) if body else None

    def refusals(self, task_id: str) -> dict[str, str]:
        """Who gave a task back, and why."""
        return dict(self._redis.hgetall(self._key("refused", task_id)))

    def withdraw(self, run: str, task_ids: Sequence[str], *, seconds: float = 10.0) -> None:
        """Nothing more of a run is begun, and what is begun vanishes; waits until all have let go, or so long."""
        self._redis.set(self._key("stop", run), "1", ex=3600)
        for task in task_ids:
            self._redis.lrem(self._key("waiting"), 0, task)
        until = time.monotonic() + seconds
        while time.monotonic() < until and self.in_hands(task_ids):
            time.sleep(0.1)
        for task in task_ids:
            self.forget(task)
        self._redis.delete(self._key("ended", run), self._key("shares", run))

    def in_hands(self, task_ids: Collection[str]) -> bool:
        """Whether anybody who lives has one of these tasks in hand."""
        names = [
            name for name in self._redis.smembers(self._key("workers")) if self._redis.exists(self._key("alive", name))
        ]
        return any(task in task_ids for name in names for task in self._redis.lrange(self._key("hand", name), 0, -1))

    def drop(self, task_id: str) -> None:
        """A task is no longer wanted: it is not begun, and who has it in hand lets go."""
        self._redis.lrem(self._key("waiting"), 0, task_id)
        self.forget(task_id)

    def forget(self, task_id: str) -> None:
        self._redis.delete(self._key("task", task_id), self._key("refused", task_id))

    def machines(self) -> list[Machine]:
        """Everybody who takes work or took some lately, by name."""
        found = []
        for name in sorted(self._redis.smembers(self._key("workers"))):
            said = self._redis.hgetall(self._key("info", name))
            alive = bool(self._redis.exists(self._key("alive", name)))
            if not alive and not said:
                continue
            spent = float(said.get("work_seconds", 0))
            found.append(
                Machine(
                    name=name, alive=alive, doing=said.get("doing", ""),
                    finished=int(said.get("finished", 0)), refusal=said.get("refusal", ""),
                    speed=float(said.get("sound_seconds", 0)) / spent if spent else 0.0,
                )
            )  # fmt: skip
        return found

    # What who does the work says and hears.

    def beat(self, name: str) -> None:
        self._redis.sadd(self._key("workers"), name)
        self._redis.set(self._key("alive", name), "1", ex=SECONDS_ALIVE)
        self._redis.expire(self._key("info", name), _KEPT_SECONDS)

    def leave(self, name: str, *, broken: bool) -> None:
        """Somebody goes: what is in his hand waits again. broken says that he did not want to, which counts as a try."""
        self._redis.delete(self._key("alive", name))
        while (task := self._redis.lpop(self._key("hand", name))) is not None:
            if broken:
                self.again(task)
            else:
                self._redis.lpush(self._key("waiting"), task)
        self._redis.srem(self._key("workers"), name)
        self._redis.delete(self._key("info", name))

    def take(self, name: str, *, seconds: float) -> Task | None:
        """The next task into the hand; None where none came in time, or it was withdrawn meanwhile."""
        task_id = self._redis.blmove(self._key("waiting"), self._key("hand", name), seconds, "LEFT", "RIGHT")
        if task_id is None:
            return None
        body = self._redis.get(self._key("task", task_id))
        if body is None:
            self._out_of_hand(name, task_id)
            return None
        said = json.loads(body)
        steps = tuple(from_record(Step, record) for record in said["steps"])
        return Task(id=task_id, run=said["run"], steps=steps, tries=said["tries"])

    def _out_of_hand(self, name: str, task_id: str) -> bool:
        return bool(self._redis.lrem(self._key("hand", name), 0, task_id))

    def refuse(self, name: str, task: Task, reason: str) -> None:
        """Give a task back, behind the others, so that somebody else takes it."""
        self._redis.hset(self._key("refused", task.id), name, reason)
        self._redis.expire(self._key("refused", task.id), _KEPT_SECONDS)
        self._redis.hset(self._key("info", name), "refusal", reason)
        if self._out_of_hand(name, task.id):
            self._redis.rpush(self._key("waiting"), task.id)

    def let_go(self, name: str, task: Task) -> None:
        """A task that is no longer wanted is out of the hand."""
        self._out_of_hand(name, task.id)
        self._redis.hset(self._key("info", name), "doing", "")

    def doing(self, name: str, what: str) -> None:
        self._redis.hset(self._key("info", name), "doing", what)

    def tell(self, task: Task, share: float) -> bool:
        """Say how far a task is; returns whether it is still wanted."""
        self._redis.hset(self._key("shares", task.run), task.id, share)
        self._redis.expire(self._key("shares", task.run), _KEPT_SECONDS)
        return bool(self._redis.exists(self._key("task", task.id))) and not self._redis.exists(
            self._key("stop", task.run)
        )

    def finish(
        self, name: str, task: Task, outcomes: Sequence[Mapping[str, Any]], *, sound_seconds: float, work_seconds: float
    ) -> None:
        """Say what became of a task, unless it was taken for an orphan meanwhile: then its results are found there."""
        info = self._key("info", name)
        if self._out_of_hand(name, task.id):
            said = json.dumps({"id": task.id, "outcomes": list(outcomes), "by": name})
            self._redis.rpush(self._key("ended", task.run), said)
            self._redis.expire(self._key("ended", task.run), _KEPT_SECONDS)
        self._redis.hincrby(info, "finished", len(outcomes))
        self._redis.hincrbyfloat(info, "sound_seconds", sound_seconds)
        self._redis.hincrbyfloat(info, "work_seconds", work_seconds)
        self._redis.hset(info, mapping={"doing": "", "refusal": ""})

    # Results that are in place though nobody was told: known by what they hold, since machines see other numbers of files.

    def _of_output(self, what: str, output: str) -> str:
        return self._key(what, hashlib.sha256(os.fsencode(output)).hexdigest())

    def note_landed(self, step: Step, working: Path, found: Mapping[str, Any]) -> None:
        """Just before a finished working file gets its name; step is as who has the work done sees it."""
        size = working.stat().st_size
        body = json.dumps({"work": _work_of(step), "size": size, "mark": content_mark(working, size), "found": found})
        self._redis.set(self._of_output("landed", step.output), body, ex=_KEPT_SECONDS)

    def landed(self, step: Step, path: Path) -> dict[str, Any] | None:
        """What was found of a step's result that is in place at path; None where the file there is not what this step
        makes of this source."""
        body = self._redis.get(self._of_output("landed", step.output))
        try:
            size = path.stat().st_size if body else 0
            said = json.loads(body) if body else {}
            if (
                not said
                or said["work"] != _work_of(step)
                or said["size"] != size
                or said["mark"] != content_mark(path, size)
            ):
                return None
        except OSError:
            return None
        found: dict[str, Any] = said["found"]
        return found

    def forget_landed(self, output: str) -> None:
        self._redis.delete(self._of_output("landed", output))


def _work_of(step: Step) -> list[Any]:
    """What is done to which version of which source."""
    source = step.source
    return [step.work, source.path, source.part, source.size_bytes, source.modified_ns]
