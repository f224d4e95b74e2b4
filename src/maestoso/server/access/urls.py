"""Addresses of signing in and out."""

from django.urls import path

from maestoso.server.access.views import SessionView

urlpatterns = [path("session", SessionView.as_view(), name="session")]
