"""Addresses of standbys."""

from django.urls import path

from maestoso.server.reign import views

urlpatterns = [
    path("standbys", views.StandbyList.as_view(), name="standbys"),
    path("takeover", views.TakeoverView.as_view(), name="takeover"),
]
