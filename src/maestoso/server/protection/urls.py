"""Addresses of protection."""

from django.urls import path

from maestoso.server.protection import views

urlpatterns = [
    path("groups", views.ProtectionView.as_view(), name="protection"),
    path("group-cost", views.CostView.as_view(), name="group-cost"),
    path("groups/<str:code>", views.GroupView.as_view(), name="group"),
    path("groups/<str:code>/members", views.MembersView.as_view(), name="members"),
    path("groups/<str:code>/pause", views.PauseView.as_view(), name="pause"),
    path("groups/<str:code>/key", views.KeyView.as_view(), name="key"),
    path("groups/<str:code>/points/<path:point>", views.PinView.as_view(), name="pin"),
]
