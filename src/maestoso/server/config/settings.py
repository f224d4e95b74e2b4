"""Django's settings, from :mod:`maestoso.server.config.options`."""

from __future__ import annotations

import pymysql

from maestoso.server.config import exposure
from maestoso.server.config.options import ROOT, database_hosts, database_socket, read_options, read_secrets
from maestoso.server.config.standby import read_standby

# Django's backend asks for MySQLdb; this driver answers for it, and needs no compiler (decision 30).
pymysql.install_as_MySQLdb()

OPTIONS = read_options()
SECRETS = read_secrets(OPTIONS)

HOSTS = database_hosts(OPTIONS)
# A process of a standby stays one; once it has taken over, others are started.
IS_STANDBY = read_standby(OPTIONS.var) is not None

SECRET_KEY = SECRETS.django_key
DEBUG = OPTIONS.debug
ALLOWED_HOSTS = exposure.hosts(OPTIONS)
PUBLIC_ORIGIN = exposure.origin(OPTIONS)
CSRF_TRUSTED_ORIGINS = [PUBLIC_ORIGIN] if PUBLIC_ORIGIN else []
# No header can have this name: only what looks at proxies sets it (access.proxies).
BY_TLS = "MAESTOSO_BY_TLS"
SECURE_PROXY_SSL_HEADER = (BY_TLS, "yes")
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = exposure.is_https(OPTIONS)
SECURE_HSTS_SECONDS = 180 * 86_400 if exposure.is_https(OPTIONS) else 0
ROOT_URLCONF = "maestoso.server.config.urls"
ASGI_APPLICATION = "maestoso.server.config.asgi.application"
USE_TZ = True
TIME_ZONE = "UTC"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "knox",
    # From the lowest layer to the highest: what one of them asks is answered in this order.
    "maestoso.server.audit",
    "maestoso.server.backups",
    "maestoso.server.reign",
    "maestoso.server.jobs",
    "maestoso.server.estate",
    "maestoso.server.organisation",
    "maestoso.server.access",
    "maestoso.server.approvals",
    "maestoso.server.outbox",
    "maestoso.server.plans",
    "maestoso.server.protection",
    "maestoso.server.crosswalks",
    "maestoso.server.scripts",
    "maestoso.server.names",
    "maestoso.server.declared",
    "maestoso.server.runs",
    "maestoso.server.evidence",
    "maestoso.server.readiness",
    "maestoso.server.drills",
    "maestoso.server.board",
    "maestoso.server.messages",
    "maestoso.server.keeper",
    "maestoso.server.practice_lab",
]

MIDDLEWARE = [
    "maestoso.server.common.logs.RequestId",
    "maestoso.server.access.proxies.ClientAddress",
    "django.middleware.security.SecurityMiddleware",
    "maestoso.server.common.headers.ContentSecurity",
    "maestoso.server.common.headers.PlainAddress",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "maestoso.server.common.compressed.Compressed",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "maestoso.server.access.sessions.SessionLimits",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "maestoso.server.reign.read_only.ReadOnly",
    "maestoso.server.audit.record.AuditTrail",
    "maestoso.server.approvals.deeds.GiveBack",
]

# Tests do jobs where they are waited for, without workers.
JOBS_AT_ONCE = False

CACHES = {
    "default": {"BACKEND": "maestoso.server.common.memory.Memory"},
    "sessions": {
        "BACKEND": "django.core.cache.backends.locmem.LocMemCache", "OPTIONS": {"MAX_ENTRIES": 10_000},
    },
}  # fmt: skip
if IS_STANDBY:
    # Its database is written by its primary alone: who signs in here is known to this process.
    SESSION_ENGINE = "django.contrib.sessions.backends.cache"
    SESSION_CACHE_ALIAS = "sessions"

DATABASES = {
    "default": {
        "ENGINE": "maestoso.server.common.mariadb",
        "NAME": OPTIONS.db_name,
        "USER": OPTIONS.db_user,
        "PASSWORD": SECRETS.db_password,
        "HOST": HOSTS[0][0] if HOSTS else str(database_socket(OPTIONS.var)),
        "PORT": HOSTS[0][1] if HOSTS else OPTIONS.db_port,
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {
            "charset": "utf8mb4",
            "isolation_level": "read committed",
            "sql_mode": "STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION",
            "connect_timeout": 5,
            # On the socket nobody listens in; preparing to encrypt would take longer than most questions.
            **(
                {"ssl_ca": OPTIONS.db_ca, "ssl_verify_identity": True}
                if OPTIONS.db_ca
                else {"ssl_disabled": True}
            ),
        },
        "TEST": {"CHARSET": "utf8mb4", "COLLATION": "uca1400_nopad_as_cs"},
    }
}

# The second is that of earlier releases: a password that is right is hashed anew by the first.
PASSWORD_HASHERS = [
    "django.contrib.auth.hashers.Argon2PasswordHasher",
    "django.contrib.auth.hashers.PBKDF2PasswordHasher",
]
AUTH_PASSWORD_VALIDATORS = [
    {
        "NAME": "django.contrib.auth.password_validation.MinimumLengthValidator",
        "OPTIONS": {"min_length": 12},
    },
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {
        "NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator",
        "OPTIONS": {"user_attributes": ("username", "first_name", "email")},
    },
]
SESSION_COOKIE_AGE = OPTIONS.session_hours * 3600
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_NAME = "maestoso_session"
CSRF_COOKIE_NAME = "maestoso_csrf"
SECURE_CONTENT_TYPE_NOSNIFF = True
# Bodies are bounded where they are read (json_body, raw_body) and, whatever they are, before that (asgi).
DATA_UPLOAD_MAX_MEMORY_SIZE = None
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"

WEB_DIST = ROOT / "web" / "dist"
STATIC_URL = "/static/"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.is_dir() else None
WHITENOISE_INDEX_FILE = False
# Vite's file names carry a hash of eight characters, which WhiteNoise does not recognise by itself.
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+-[\w-]{8}\.\w+$"

REST_FRAMEWORK = {
    # A session first: who has none is told to sign in.
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "rest_framework.authentication.SessionAuthentication",
        "maestoso.server.access.tokens.BearerTokens",
    ],
    "DEFAULT_PERMISSION_CLASSES": [
        "maestoso.server.access.may.InTable",
        "maestoso.server.approvals.deeds.Signed",
    ],
    "DEFAULT_RENDERER_CLASSES": ["maestoso.server.common.rendering.Json"],
    "DEFAULT_PARSER_CLASSES": ["maestoso.server.common.json_body.StrictJson"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "maestoso.server.common.problems.handle",
    # The address is what ClientAddress found; what proxies say is looked at there and nowhere else.
    "NUM_PROXIES": 0,
    "DEFAULT_THROTTLE_RATES": {"signin": f"{OPTIONS.signin_per_minute}/min"},
}

KNOX_TOKEN_MODEL = "access.ApiToken"
REST_KNOX = {"TOKEN_MODEL": KNOX_TOKEN_MODEL, "AUTH_HEADER_PREFIX": "Bearer", "TOKEN_LIMIT_PER_USER": None}

SPECTACULAR_SETTINGS = {
    "TITLE": "Maestoso",
    "DESCRIPTION": "Everything the interface can do, the API can do.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "SCHEMA_PATH_PREFIX": "/api/v1",
    "POSTPROCESSING_HOOKS": ["maestoso.server.common.contract.complete"],
}

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "lines": {"()": "maestoso.server.common.logs.Lines"},
        "json": {"()": "maestoso.server.common.logs.Json"},
    },
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": OPTIONS.log_format}},
    "root": {"handlers": ["console"], "level": "INFO"},
    "loggers": {
        "django.request": {"level": "ERROR"},
        "httpx": {"level": "WARNING"},
        "kombu": {"level": "ERROR"},
        "celery": {"level": "WARNING"},
        "weasyprint": {"level": "ERROR"},
        "fontTools": {"level": "WARNING"},
    },
}
