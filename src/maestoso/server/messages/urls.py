"""Addresses of messages."""

from django.urls import path

from maestoso.server.messages import views

urlpatterns = [
    path("messages", views.MessageList.as_view(), name="messages"),
    path("events", views.EventFeed.as_view(), name="events"),
    path("messages/mail/try", views.MailTry.as_view(), name="try-mail"),
    path("messages/<str:uid>/again", views.MessageAgain.as_view(), name="message-again"),
    path("messages/escalation", views.EscalationView.as_view(), name="escalation"),
    path("runs/<int:pk>/seen", views.RunSeen.as_view(), name="run-seen"),
    path("webhooks", views.WebhookList.as_view(), name="webhooks"),
    path("webhooks/<int:pk>", views.OneWebhook.as_view(), name="webhook"),
    path("webhooks/<int:pk>/try", views.WebhookTry.as_view(), name="try-webhook"),
    path("account/messages", views.MyMessageView.as_view(), name="account-messages"),
]
