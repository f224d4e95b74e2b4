"""The address of the witness."""

from django.urls import path

from maestoso.server.witness import views

urlpatterns = [path("standbys/witness", views.WitnessView.as_view(), name="witness")]
