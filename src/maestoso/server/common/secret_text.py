"""Secrets in the database are encrypted at rest (Fernet: AES-128-CBC with HMAC); the key is outside it."""

from __future__ import annotations

from cryptography.fernet import Fernet
from django.conf import settings


def seal(text: str) -> str:
    """Encrypt for storage."""
    return Fernet(settings.SECRETS.field_key).encrypt(text.encode()).decode()


def unseal(stored: str) -> str:
    """Decrypt what :func:`seal` made."""
    return Fernet(settings.SECRETS.field_key).decrypt(stored.encode()).decode()
