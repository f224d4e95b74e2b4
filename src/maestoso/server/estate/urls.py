"""Addresses of the estate."""

from django.urls import path

from maestoso.server.estate.views import SiteLineView, WorkloadsView

urlpatterns = [
    path("site-line", SiteLineView.as_view(), name="site-line"),
    path("workloads", WorkloadsView.as_view(), name="workloads"),
]
