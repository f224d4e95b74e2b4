"""Addresses of the audit trail."""

from django.urls import path

from maestoso.server.audit.views import AuditFile, AuditView

urlpatterns = [
    path("audit", AuditView.as_view(), name="audit"),
    path("audit.jsonl", AuditFile.as_view(), name="audit-file"),
]
