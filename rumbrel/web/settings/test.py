"""Settings of the tests: the same, for Django's test client."""

from .base import *  # noqa: F403 - settings are taken over whole
from .base import ALLOWED_HOSTS, HUEY, LOGGING

ALLOWED_HOSTS = [*ALLOWED_HOSTS, "testserver"]
# Tests look at what is logged where it matters; the rest is not for the screen.
LOGGING = {**LOGGING, "handlers": {"console": {"class": "logging.NullHandler"}}}
HUEY = {**HUEY, "huey_class": "huey.MemoryHuey"}
# The real one is slow on purpose.
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
