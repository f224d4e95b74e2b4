"""Addresses of the practice lab."""

from django.urls import path

from maestoso.server.practice_lab.views import FaultScriptView, LabView

urlpatterns = [
    path("practice-lab", LabView.as_view(), name="lab"),
    path("practice-lab/fault-script", FaultScriptView.as_view(), name="fault-script"),
]
