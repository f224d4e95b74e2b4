"""Addresses of declared outages."""

from django.urls import path

from maestoso.server.declared import views

urlpatterns = [
    path("declare", views.Declare.as_view(), name="declare"),
    path("declared", views.Declared.as_view(), name="declared"),
    path("declared/<int:pk>", views.OneDeclared.as_view(), name="declared-outage"),
]
