"""Addresses of what sites are asked for."""

from django.urls import path

from maestoso.server.outbox.views import RequestsView

urlpatterns = [path("site-requests", RequestsView.as_view(), name="site-requests")]
