"""Settings of the web application. Everything a user may set is an environment variable."""

import os
import secrets
from pathlib import Path

from csp.constants import NONE, SELF

BASE_DIR = Path(__file__).resolve().parents[2]
DATA = Path(os.environ.get("RUMBREL_DATA") or BASE_DIR / ".data").resolve()
RESULTS = DATA / "results"
DROPPED = DATA / "dropped"
DISCS = DATA / "discs"
ROOTS = [Path(part).resolve() for part in os.environ.get("RUMBREL_ROOTS", "").split(":") if part] or [
    DATA / "demo",
    Path.home(),
]
SHOW_GALLERY = os.environ.get("RUMBREL_GALLERY") == "1"
PORT = os.environ.get("RUMBREL_PORT", "8321")


def _secret() -> str:
    """A key of this installation's own, made at the first start and readable by its owner alone."""
    path = DATA / "secret-key"
    DATA.mkdir(parents=True, exist_ok=True)
    try:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
            file.write(secrets.token_urlsafe(50))
    except FileExistsError:
        pass
    return path.read_text()


SECRET_KEY = _secret()
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", "testserver"]

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django_htmx",
    "huey.contrib.djhuey",
    "rumbrel.web.ui",
    "rumbrel.web.collection",
    "rumbrel.web.targets",
    "rumbrel.web.batches",
    "rumbrel.web.playlists",
    "rumbrel.web.discs",
    "rumbrel.web.bench",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "csp.middleware.CSPMiddleware",
]
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "img-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
ROOT_URLCONF = "rumbrel.web.urls"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
                "rumbrel.web.ui.context.frame",
            ]
        },
    }
]
WSGI_APPLICATION = "rumbrel.web.wsgi.application"
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "rumbrel.sqlite3",
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
# What undo remembers can be longer than a cookie may be.
SESSION_ENGINE = "django.contrib.sessions.backends.db"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Strict"
CSRF_COOKIE_SAMESITE = "Strict"
MESSAGE_STORAGE = "django.contrib.messages.storage.session.SessionStorage"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"
STATIC_URL = "/static/"
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False
DATA_UPLOAD_MAX_NUMBER_FIELDS = 20_000
FILE_UPLOAD_TEMP_DIR = None

HUEY = {
    "huey_class": "huey.SqliteHuey",
    "name": "rumbrel",
    "filename": str(DATA / "work.sqlite3"),
    "immediate": False,
    "consumer": {"worker_type": "process"},
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
