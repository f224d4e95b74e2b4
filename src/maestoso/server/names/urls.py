"""Addresses of zones."""

from django.urls import path

from maestoso.server.names import views

urlpatterns = [
    path("zones", views.Zones.as_view(), name="zones"),
    path("zones/<str:zone>", views.OneZone.as_view(), name="zone"),
    path("zones/<str:zone>/trial", views.ZoneTrial.as_view(), name="zone-trial"),
]
