"""Settings of the web application."""

from pathlib import Path

from csp.constants import NONE, SELF

from .ours import read_environment, secret_key

BASE_DIR = Path(__file__).resolve().parents[3]
RUMBREL = read_environment(BASE_DIR)
"""All settings that are Rumbrel's own, read once."""

SECRET_KEY = secret_key(RUMBREL.data)
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]

INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django_htmx",
    "huey.contrib.djhuey",
    "rumbrel.web.ui",
    "rumbrel.web.jobs",
    "rumbrel.web.collection",
    "rumbrel.web.targets",
    "rumbrel.web.batches",
    "rumbrel.web.compare",
    "rumbrel.web.playlists",
    "rumbrel.web.tags",
    "rumbrel.web.discs",
    "rumbrel.web.bench",
    "rumbrel.web.demo",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "rumbrel.web.ui.middleware.bodiless_head",
    "rumbrel.web.ui.middleware.own_pages_only",
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
        "media-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
    }
}
ROOT_URLCONF = "rumbrel.web.urls"
CSRF_FAILURE_VIEW = "rumbrel.web.ui.views.errors.forgery"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
                "rumbrel.web.ui.context.frame",
                "rumbrel.web.collection.context.pull",
                "rumbrel.web.jobs.context.head_work",
            ]
        },
    }
]
WSGI_APPLICATION = "rumbrel.web.wsgi.application"
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": RUMBREL.data / "rumbrel.sqlite3",
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
DATA_UPLOAD_MAX_NUMBER_FILES = RUMBREL.most_dropped_files
# On the disk where they are kept, so that keeping them is a matter of a name.
FILE_UPLOAD_TEMP_DIR = str(RUMBREL.data)

HUEY = {
    "huey_class": "huey.SqliteHuey",
    "name": "rumbrel",
    "filename": str(RUMBREL.data / "work.sqlite3"),
    "immediate": False,
    # Jobs wait in threads; the heavy work is done by crews of processes of their own.
    "consumer": {"worker_type": "thread"},
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"rumbrel": {"level": "INFO"}, "huey": {"level": "WARNING"}},
}
