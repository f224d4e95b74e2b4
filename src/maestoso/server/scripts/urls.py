"""Addresses of scripts and secrets."""

from django.urls import path

from maestoso.server.scripts import views

urlpatterns = [
    path("library", views.LibraryView.as_view(), name="library"),
    path("scripts/<str:name>", views.ScriptOfLibrary.as_view(), name="script"),
    path("secrets/<str:name>", views.SecretOfLibrary.as_view(), name="secret"),
]
