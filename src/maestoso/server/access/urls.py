"""Addresses of signing in, people and accounts."""

from django.urls import path

from maestoso.server.access import account_views, identity_provider_views, passkey_views, people_views
from maestoso.server.access.views import SessionView

urlpatterns = [
    path("session", SessionView.as_view(), name="session"),
    path("session/passkey", passkey_views.SignInWithPasskey.as_view(), name="sign-in-with-passkey"),
    path("session/passkey/options", passkey_views.OptionsToSignIn.as_view(), name="passkey-options"),
    path("account/passkeys", passkey_views.Passkeys.as_view(), name="account-passkeys"),
    path("account/passkeys/options", passkey_views.OptionsToAdd.as_view(), name="passkey-options-to-add"),
    path("account/passkeys/<int:pk>", passkey_views.OnePasskey.as_view(), name="account-passkey"),
    path("session/provider", identity_provider_views.SignInThrough.as_view(), name="sign-in-through"),
    path(
        "session/provider/address",
        identity_provider_views.AddressOfProvider.as_view(),
        name="provider-address",
    ),
    path("identity-provider", identity_provider_views.Provider.as_view(), name="identity-provider"),
    path("identity-provider/try", identity_provider_views.TryProvider.as_view(), name="try-provider"),
    path("invitations", people_views.Invitations.as_view(), name="invitations"),
    path("invitations/forgotten", people_views.Forgotten.as_view(), name="forgotten"),
    path("people", people_views.PeopleView.as_view(), name="people"),
    path("people/<str:name>", people_views.OnePerson.as_view(), name="person"),
    path("people/<str:name>/invitation", people_views.NewLink.as_view(), name="person-invitation"),
    path(
        "people/<str:name>/second-factor", people_views.FactorOfPerson.as_view(), name="person-second-factor"
    ),
    path("roles", people_views.OwnRoles.as_view(), name="roles"),
    path("roles/<str:code>/definition", people_views.RoleDefinition.as_view(), name="role-definition"),
    path("roles/<str:code>", people_views.OneRole.as_view(), name="role"),
    path("account", account_views.AccountView.as_view(), name="account"),
    path("account/reading", account_views.ReadingView.as_view(), name="account-reading"),
    path("account/password", account_views.Password.as_view(), name="account-password"),
    path("account/sessions", account_views.Sessions.as_view(), name="account-sessions"),
    path("account/second-factor", account_views.Factor.as_view(), name="account-second-factor"),
    path("account/second-factor/removal", account_views.FactorRemoval.as_view(), name="factor-removal"),
    path("account/tokens", account_views.Tokens.as_view(), name="account-tokens"),
    path("account/tokens/<str:key>", account_views.OneToken.as_view(), name="account-token"),
]
