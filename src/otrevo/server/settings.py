"""Django settings. Everything that differs between machines comes from the environment that the launcher sets."""

import os
from pathlib import Path

HOME = Path(os.environ.get("OTREVO_HOME", Path(__file__).resolve().parents[3]))
DATA = Path(os.environ.get("OTREVO_DATA", HOME / ".otrevo"))
SECRET_KEY = os.environ.get("OTREVO_SECRET_KEY", "only-for-commands-that-serve-nobody")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *filter(None, os.environ.get("OTREVO_HOSTS", "").split(","))]
USE_TZ = True
TIME_ZONE = "UTC"
ROOT_URLCONF = "otrevo.server.urls"
ASGI_APPLICATION = "otrevo.server.asgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "channels",
    "procrastinate.contrib.django",
    "otrevo.server.accounts",
    "otrevo.server.shoot",
    "otrevo.server.cast",
    "otrevo.server.stage",
    "otrevo.server.work",
    "otrevo.server.takes",
    "otrevo.server.streams",
    "otrevo.server.bench",
    "otrevo.server.floor",
    "otrevo.server.live",
    "otrevo.server.handover",
    "otrevo.server.keeping",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "otrevo.server.accounts.headers.content_security_policy",
    "otrevo.server.accounts.packed.PackedAnswers",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "OPTIONS": {
            "server_side_binding": True,  # bytes go over as bytes, not as twice as many letters
            "sslmode": os.environ.get("OTREVO_DB_SSLMODE", "prefer"),
            **({"pool": {"min_size": 2, "max_size": 16, "timeout": 10}} if os.environ.get("OTREVO_DB_POOL") else {}),
        },
        "CONN_HEALTH_CHECKS": True,
        "NAME": os.environ.get("OTREVO_DB_NAME", "otrevo"),
        "USER": os.environ.get("OTREVO_DB_USER", "otrevo"),
        "PASSWORD": os.environ.get("OTREVO_DB_PASSWORD", ""),
        "HOST": os.environ.get("OTREVO_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("OTREVO_DB_PORT", "5432"),
    }
}
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
]
TLS = os.environ.get("OTREVO_TLS") == "1"  # pages come to people over TLS, ours or a proxy's
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = TLS
SECURE_HSTS_SECONDS = 31_536_000 if TLS else 0
if os.environ.get("OTREVO_PROXY") == "1":
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
RECORDER_KEY = os.environ.get("OTREVO_RECORDER_KEY") or SECRET_KEY
STAGE_KEY = os.environ.get("OTREVO_STAGE_KEY", "")  # the stand-ins' own; real devices take no notice of it
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
MAX_UPLOAD_BYTES = 1024 * 1024 * 1024  # one file
MAX_REQUEST_BYTES = 2 * MAX_UPLOAD_BYTES  # all files of one drop
MOST_IDLE_BYTES = 4096  # where nothing is expected
KEEP_REMOVED_DAYS = float(os.environ.get("OTREVO_KEEP_REMOVED_DAYS") or 14)
CLEAN_UP = "otrevo.server.keeping.clean_up.clean_up"  # what workers do now and then
WORK_KINDS = {  # who carries out which kind of work
    "pass": "otrevo.server.takes.jobs.PASS",
    "room step": "otrevo.server.stage.jobs.STEP",
    "package": "otrevo.server.handover.jobs.PACKAGE",
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"json": {"()": "otrevo.server.logs.JsonLines"}},
    "filters": {"not health": {"()": "otrevo.server.logs.NotHealth"}},
    "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": "json"}},
    "root": {"handlers": ["stderr"], "level": "WARNING"},
    "loggers": {
        "otrevo": {"level": "INFO"},
        "django.request": {"level": "ERROR", "filters": ["not health"]},
        "django.security": {"level": "ERROR"},
    },
}
