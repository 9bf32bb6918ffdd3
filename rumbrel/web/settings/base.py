"""Settings of the web application."""

from datetime import timedelta
from pathlib import Path

from csp.constants import NONE, SELF

from .ours import default_data, read_environment, secret_key

_PACKAGE = Path(__file__).resolve().parents[2]
IN_CHECKOUT = (_PACKAGE.parent / "manage.py").is_file()
BASE_DIR = _PACKAGE.parent if IN_CHECKOUT else _PACKAGE
"""What docs/ and requirements.lock lie in: the checkout, or the installed package, which has them inside."""
RUMBREL = read_environment(default_data(BASE_DIR if IN_CHECKOUT else None))
"""All settings that are Rumbrel's own, read once."""

SECRET_KEY = secret_key(RUMBREL.data)
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *RUMBREL.hosts]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "axes",
    "django_htmx",
    "huey.contrib.djhuey",
    "rumbrel.web.ui",
    "rumbrel.web.accounts",
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
    "rumbrel.web.operations",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "rumbrel.web.ui.middleware.bodiless_head",
    "rumbrel.web.ui.middleware.own_pages_only",
    "rumbrel.web.ui.middleware.nothing_but_sound",
    "rumbrel.web.ui.middleware.in_own_zone",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "rumbrel.web.accounts.middleware.Admission",
    "axes.middleware.AxesMiddleware",
]
AUTH_USER_MODEL = "accounts.Account"
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {
        "NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator",
        "OPTIONS": {"user_attributes": ("name",)},
    },
]
LOGIN_URL, LOGIN_REDIRECT_URL = "accounts:sign-in", "collection:index"
# What the form calls it; the library would take the field of the account.
AXES_USERNAME_FORM_FIELD = "username"
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_LOCKOUT_CALLABLE = "rumbrel.web.accounts.views.accounts.locked_out"
AXES_RESET_ON_SUCCESS = True
AXES_VERBOSE = False
# Who failed to sign in, and from where, is for administrators to see; passwords are never noted.
AXES_ENABLE_ACCESS_FAILURE_LOG = True
AXES_SENSITIVE_PARAMETERS: list[str] = []
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
                "rumbrel.web.accounts.context.signed_in",
                "rumbrel.web.demo.tour.tour",
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
SESSION_COOKIE_AGE = 12 * 3600
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE_SSL_REDIRECT = RUMBREL.behind_https
# A supervisor asks on the plain port of this machine; what it is told says nothing of the collection.
SECURE_REDIRECT_EXEMPT = [r"^health/$"]
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if RUMBREL.behind_https else 0
SECURE_REFERRER_POLICY = "same-origin"
# Without TLS in front of it, which is for this machine alone, cookies for TLS only would be lost. Whose subdomains
# and whose preload list there are is not for us to say.
SILENCED_SYSTEM_CHECKS = ["security.W005", "security.W021"] + (
    [] if RUMBREL.behind_https else ["security.W004", "security.W008", "security.W012", "security.W016"]
)
# A link from elsewhere opens the page for who is signed in; what changes anything needs the token as well.
SESSION_COOKIE_SAMESITE = "Lax"
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
    "formatters": {
        "lines": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"},
        "json": {"()": "rumbrel.web.ui.logs.JsonLines"},
    },
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": RUMBREL.log_form}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"rumbrel": {"level": RUMBREL.log_level}, "huey": {"level": "WARNING"}},
}
