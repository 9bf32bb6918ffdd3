"""Processes that do the work, all started the same way."""

import multiprocessing
from multiprocessing.context import ForkServerContext

__all__ = ["worker_context"]

_PRELOADED = ["rumbrel.core.conversion.pool", "rumbrel.core.conversion.levelling", "rumbrel.core.inspection.many"]


def worker_context(*more: str) -> ForkServerContext:
    """Workers are forked from a fresh server process: none inherits threads or locks from here.

    The server imports once what every worker needs, and the modules named, if it is not running yet.
    """
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload([*_PRELOADED, *more])
    return context
