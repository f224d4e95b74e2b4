"""Addresses of the board and the site line."""

from django.urls import path

from maestoso.server.board.views import ReadinessView, SiteLineView

urlpatterns = [
    path("readiness", ReadinessView.as_view(), name="readiness"),
    path("site-line", SiteLineView.as_view(), name="site-line"),
]
