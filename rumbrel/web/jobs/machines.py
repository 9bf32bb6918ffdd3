"""Who carries steps out: this machine's own pool, or all machines that take work from the list in Redis."""

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from django.conf import settings

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.conversion.work_list import Machine, WorkList, WorkListLost, connected
from rumbrel.core.progress import Progress

__all__ = ["carrier", "machines"]


def carrier() -> Callable[..., Iterator[Outcome | Progress]]:
    """Raises WorkListLost where the list is shared and cannot be reached."""
    address = settings.RUMBREL.redis_url
    if not address:
        return run_steps
    from rumbrel.core.conversion.shared import run_shared

    return partial(run_shared, work_list=WorkList(connected(address)))


def machines() -> tuple[list[Machine], str]:
    """Everybody who takes work, and why they are not known, "" where they are."""
    address = settings.RUMBREL.redis_url
    if not address:
        return [], ""
    import redis

    try:
        client: Any = connected(address)
        return WorkList(client).machines(), ""
    except (WorkListLost, redis.RedisError) as error:
        return [], str(error)
