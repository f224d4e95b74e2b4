"""Addresses of backups."""

from django.urls import path

from maestoso.server.backups import views

urlpatterns = [path("backups", views.BackupList.as_view(), name="backups")]
