"""Addresses of the board, the list of plans and the site line."""

from django.urls import path

from maestoso.server.board.views import PlansView, ReadinessView, SearchView, SiteLineView

urlpatterns = [
    path("plans", PlansView.as_view(), name="plans"),
    path("readiness", ReadinessView.as_view(), name="readiness"),
    path("search", SearchView.as_view(), name="search"),
    path("site-line", SiteLineView.as_view(), name="site-line"),
]
