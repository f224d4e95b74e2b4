"""Addresses of the organisation's settings."""

from django.urls import path

from maestoso.server.organisation import views

urlpatterns = [
    path("settings", views.SettingsOfAll.as_view(), name="settings"),
    path("settings/logo", views.LogoView.as_view(), name="logo"),
]
