"""Every operation of the API as a method. Made from docs/openapi.json by clients/make_python.py."""

# ruff: noqa: A002, E501
from __future__ import annotations

from typing import Any

from maestoso_client.line import Line


class Operations(Line):
    """Arguments and answers are as the contract says; what it calls a shape is a dictionary here.

    Every method may raise Refused or NotReached.
    """

    def accept_drift(self, code: str | int, body: Any) -> Any:
        """Take all or some of them over. Sent: AcceptSent. Answer: Changed."""
        return self.ask("POST", f"/sites/{self.part(code)}/drift", body=body)

    def accept_invitation(self, body: Any) -> Any:
        """Choose a password with a link, and sign in; with a second factor, sign in is still to come. Sent: InvitationAcceptSent. Answer: Session."""
        return self.ask("POST", "/invitations", body=body)

    def account(self) -> Any:
        """One's own account, with its roles, sessions and tokens. Answer: Account."""
        return self.ask("GET", "/account")

    def add_file(self, id: str | int, body: bytes, *, name: str, type: str = "") -> Any:
        """Add a file of up to 10 MiB; its SHA-256 is signed. Answer: AdditionView."""
        return self.ask("POST", f"/runs/{self.part(id)}/files", query={"name": name, "type": type}, body=body)

    def add_note(self, id: str | int, body: Any) -> Any:
        """Add a note; it is signed on its own. Sent: NoteAddedSent. Answer: AdditionView."""
        return self.ask("POST", f"/runs/{self.part(id)}/notes", body=body)

    def add_passkey(self, body: Any) -> Any:
        """Add what the device made. Sent: PasskeySaveSent. Answer: Account."""
        return self.ask("POST", "/account/passkeys", body=body)

    def add_trap(self, body: Any) -> Any:
        """Write one down. Sent: TrapSaveSent. Answer: TrapView."""
        return self.ask("POST", "/traps", body=body)

    def added_file(self, id: str | int, number: str | int) -> Any:
        """As it was added. It is never shown in the page: whatever it holds stays data."""
        return self.ask("GET", f"/runs/{self.part(id)}/files/{self.part(number)}", raw=True)

    def all_right(self) -> Any:
        """Put all right again. Answer: Lab."""
        return self.ask("DELETE", "/practice-lab")

    def answer_approval(self, id: str | int, body: Any) -> Any:
        """Grant it, or refuse it with a reason. Sent: ApprovalSaidSent. Answer: ApprovalView."""
        return self.ask("POST", f"/approvals/{self.part(id)}/answer", body=body)

    def approval(self, id: str | int) -> Any:
        """How it stands. Answer: ApprovalView."""
        return self.ask("GET", f"/approvals/{self.part(id)}")

    def approval_rules(self) -> Any:
        """The rules, of every plan and of those within reach. Answer: ApprovalRules."""
        return self.ask("GET", "/approval-rules")

    def approvals(self) -> Any:
        """The newest requests, what is open first. Answer: list of ApprovalView."""
        return self.ask("GET", "/approvals")

    def ask_approval(self, body: Any) -> Any:
        """Ask for the signatures that a start needs. Sent: ApprovalAskedSent. Answer: ApprovalView."""
        return self.ask("POST", "/approvals", body=body)

    def ask_approval_of_deed(self, body: Any) -> Any:
        """Ask for the signatures that something needs which was refused without them. Sent: DeedAskedSent. Answer: ApprovalView."""
        return self.ask("POST", "/approvals/deeds", body=body)

    def assess_draft(self, code: str | int, body: Any) -> Any:
        """Findings, forecast and score of a draft. Sent: DraftSent. Answer: AssessmentView."""
        return self.ask("POST", f"/plans/{self.part(code)}/assessment", body=body)

    def audit_file(self, *, by: str = "", find: str = "", kind: str = "", since: str = "") -> Any:
        """JSON lines, oldest first, each with its hash, and the signed head of the trail at the end."""
        return self.ask("GET", "/audit.jsonl", query={"by": by, "find": find, "kind": kind, "since": since}, raw=True)

    def audit_trail(self, *, by: str = "", cursor: str = "", find: str = "", kind: str = "", since: str = "") -> Any:
        """Newest first, a hundred at a time, and whether the trail is as it was written. Answer: AuditPage."""
        return self.ask("GET", "/audit", query={"by": by, "cursor": cursor, "find": find, "kind": kind, "since": since})

    def backups(self) -> Any:
        """The latest, how they are made, and what is wrong with that. Answer: Backups."""
        return self.ask("GET", "/backups")

    def begin_factor(self) -> Any:
        """Begin to set up an authenticator app. Answer: FactorBegun."""
        return self.ask("POST", "/account/second-factor")

    def begin_import(self, body: bytes, *, name: str, network: str = "", site: str = "", storage_pool: str = "") -> Any:
        """Read a CSV, JSON, OVF or OVA file and say what it would bring; nothing is written. Answer: ImportView."""
        return self.ask("POST", "/imports", query={"name": name, "network": network, "site": site, "storage_pool": storage_pool}, body=body)

    def begin_passkey(self, body: Any) -> Any:
        """What the browser needs to make a passkey; it wants the password of now. Sent: PasswordGivenSent. Answer: PasskeyOptions."""
        return self.ask("POST", "/account/passkeys/options", body=body)

    def begin_passkey_sign_in(self) -> Any:
        """What the browser needs to ask a device for its passkey. Answer: PasskeyOptions."""
        return self.ask("POST", "/session/passkey/options")

    def begin_sign_in_through(self) -> Any:
        """The address at the provider where to sign in; it sends the browser back with an answer. Answer: ProviderAsked."""
        return self.ask("POST", "/session/provider/address")

    def break_one(self, body: Any) -> Any:
        """Break one thing. Sent: BreakSent. Answer: Lab."""
        return self.ask("POST", "/practice-lab", body=body)

    def bring_back(self, id: str | int) -> Any:
        """Make it again as it was; refused with what is in the way. Answer: BroughtBack."""
        return self.ask("POST", f"/retired/{self.part(id)}/back")

    def calibration(self, code: str | int) -> Any:
        """The newest runs against the forecasts they began with. Answer: Calibration."""
        return self.ask("GET", f"/plans/{self.part(code)}/calibration")

    def cancel_import(self, id: str | int) -> Any:
        """Stop it; nothing of it stays. Answer: ImportView."""
        return self.ask("DELETE", f"/imports/{self.part(id)}")

    def cancel_job(self, id: str | int) -> Any:
        """Stop it; nothing of it stays. Answer: JobView."""
        return self.ask("DELETE", f"/jobs/{self.part(id)}")

    def change_drill(self, id: str | int, body: Any) -> Any:
        """Change it; If-Match names the revision that the change began from. Sent: DrillSent. Answer: Calendar."""
        return self.ask("PUT", f"/drills/{self.part(id)}", body=body)

    def change_group(self, code: str | int, body: Any, *, if_match: str) -> Any:
        """Change name, policy, members or rule. Sent: GroupSaveSent. Answer: GroupDetail."""
        return self.ask("PUT", f"/groups/{self.part(code)}", headers={"If-Match": if_match}, body=body)

    def change_password(self, body: Any) -> Any:
        """Change one's own password; all other sessions end. Sent: PasswordChangeSent. Answer: Account."""
        return self.ask("POST", "/account/password", body=body)

    def change_role(self, code: str | int, body: Any) -> Any:
        """Change its name or permissions, for all who have it, at once. Sent: OwnRoleSaveSent. Answer: RoleView."""
        return self.ask("PUT", f"/roles/{self.part(code)}/definition", body=body)

    def change_site(self, code: str | int, body: Any) -> Any:
        """Rename it, or say whether its inventory is taken over by itself. Sent: SiteChangeSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}", body=body)

    def change_webhook(self, id: str | int, body: Any) -> Any:
        """Where to, of what, and how. Sent: WebhookSaveSent. Answer: WebhookView."""
        return self.ask("PUT", f"/webhooks/{self.part(id)}", body=body)

    def change_workload(self, name: str | int, body: Any, *, if_match: str) -> Any:
        """Change everything but its name. Sent: WorkloadChangeSent. Answer: WorkloadDetail."""
        return self.ask("PUT", f"/workloads/{self.part(name)}", headers={"If-Match": if_match}, body=body)

    def choose_messages(self, body: Any) -> Any:
        """Change it. Sent: MessagePreferenceSent. Answer: MyMessages."""
        return self.ask("PUT", "/account/messages", body=body)

    def choose_witness(self, body: Any) -> Any:
        """Make a site the witness; from now on nothing is conducted without its lease. Sent: WitnessChosenSent. Answer: Standbys."""
        return self.ask("PUT", "/standbys/witness", body=body)

    def compared_runs(self, id: str | int, *, with_: str) -> Any:
        """What got slower or faster, and what was changed in between. Answer: Compared."""
        return self.ask("GET", f"/runs/{self.part(id)}/compared", query={"with": with_})

    def confirm_factor(self, body: Any) -> Any:
        """Give its first code; from then on sign-in wants one. Sent: FactorCodeSent. Answer: FactorConfirmed."""
        return self.ask("PUT", "/account/second-factor", body=body)

    def confirm_import(self, id: str | int, body: Any) -> Any:
        """Write what was previewed. Sent: ConfirmSent. Answer: ImportView."""
        return self.ask("POST", f"/imports/{self.part(id)}", body=body)

    def crosswalk(self, source: str | int, target: str | int) -> Any:
        """The crosswalk and both its ends; an empty one with revision 0 where none is made yet. Answer: CrosswalkDetail."""
        return self.ask("GET", f"/crosswalks/{self.part(source)}/{self.part(target)}")

    def crosswalks(self) -> Any:
        """Every direction between two sites, with how its crosswalk stands. Answer: list of CrosswalkLine."""
        return self.ask("GET", "/crosswalks")

    def declare_outage(self, body: Any) -> Any:
        """Say that a site is down. People are told, and the outage clock counts; nothing is started. 200 where it stands already: then it is the same, said again. Sent: OutageDeclaredSent. Answer: OutageView."""
        return self.ask("POST", "/declare", body=body)

    def declared_outages(self) -> Any:
        """What somebody declared and nobody withdrew. Answer: list of OutageView."""
        return self.ask("GET", "/declared")

    def drift(self, code: str | int) -> Any:
        """The differences, field by field. Answer: Drift."""
        return self.ask("GET", f"/sites/{self.part(code)}/drift")

    def drill_calendar(self) -> Any:
        """All drills with their times, a year back and ahead. Answer: Calendar."""
        return self.ask("GET", "/drills")

    def drill_calendar_file(self) -> Any:
        """iCalendar (RFC 5545)."""
        return self.ask("GET", "/drills/calendar.ics", raw=True)

    def end_protection(self, code: str | int) -> Any:
        """Stop copying it and give its points up."""
        return self.ask("DELETE", f"/groups/{self.part(code)}")

    def end_sessions(self) -> Any:
        """Sign out everywhere else. Answer: Account."""
        return self.ask("DELETE", "/account/sessions")

    def events(self, *, after: str = "", wait_s: str = "") -> Any:
        """What came after a cursor, at most 500 events, as far as whoever asks may see them. Answer: EventPage."""
        return self.ask("GET", "/events", query={"after": after, "wait_s": wait_s})

    def evidence_archive(self, *, runs: str = "", prefer: str = "") -> Any:
        """One ZIP with reports, seals, the check to do by hand, and an index."""
        return self.ask("GET", "/evidence/archive.zip", query={"runs": runs}, headers={"Prefer": prefer}, raw=True)

    def evidence_file(self, id: str | int) -> Any:
        """Seal and key on the first line, an event on every other."""
        return self.ask("GET", f"/runs/{self.part(id)}/evidence.jsonl", raw=True)

    def export_estate(self, *, as_: str, filter: str = "", prefer: str = "") -> Any:
        """What a filter finds; as JSON with sites and links."""
        return self.ask("GET", "/export", query={"as": as_, "filter": filter}, headers={"Prefer": prefer}, raw=True)

    def export_landings(self, source: str | int, target: str | int, *, filter: str = "") -> Any:
        """The before-and-after table of the saved crosswalk as CSV."""
        return self.ask("GET", f"/crosswalks/{self.part(source)}/{self.part(target)}/landings.csv", query={"filter": filter}, raw=True)

    def export_table(self, source: str | int, target: str | int) -> Any:
        """The saved table as CSV."""
        return self.ask("GET", f"/crosswalks/{self.part(source)}/{self.part(target)}/table.csv", raw=True)

    def forget_filter(self, name: str | int) -> Any:
        """Forget it."""
        return self.ask("DELETE", f"/filters/{self.part(name)}")

    def forget_password(self, body: Any) -> Any:
        """Mail a link, if there is such an account with a mail address; the answer is the same if not. Sent: PasswordForgottenSent."""
        return self.ask("POST", "/invitations/forgotten", body=body)

    def forget_run_view(self, *, name: str) -> Any:
        """Remove one. Answer: list of SavedRunView."""
        return self.ask("DELETE", "/run-views", query={"name": name})

    def forget_secret(self, name: str | int) -> Any:
        """Forget it; refused while a plan uses it."""
        return self.ask("DELETE", f"/secrets/{self.part(name)}")

    def forgot_seen(self, code: str | int) -> Any:
        """Say that somebody looked at it. Answer: SiteView."""
        return self.ask("POST", f"/sites/{self.part(code)}/forgot/seen")

    def go_without_witness(self) -> Any:
        """Go on without a witness: a standby takes over only when somebody has it do so. Answer: Standbys."""
        return self.ask("DELETE", "/standbys/witness")

    def group(self, code: str | int) -> Any:
        """How it stands, with its points. Its revision is the ETag. Answer: GroupDetail."""
        return self.ask("GET", f"/groups/{self.part(code)}")

    def held_landings(self, code: str | int) -> Any:
        """Those that it was asked to hold, and what is wrong with them. Answer: list of HeldView."""
        return self.ask("GET", f"/sites/{self.part(code)}/landings")

    def hold_again(self, code: str | int, body: Any) -> Any:
        """Ask the site for some of them once more. Sent: HeldAskedSent. Answer: list of HeldView."""
        return self.ask("POST", f"/sites/{self.part(code)}/landings", body=body)

    def hold_for_law(self, id: str | int, body: Any) -> Any:
        """Say why it must be kept, or (with an empty reason) that it need not be. Sent: LegalHoldSent. Answer: RunEvidence."""
        return self.ask("PUT", f"/runs/{self.part(id)}/legal-hold", body=body)

    def identity_provider(self) -> Any:
        """The provider, where there is one. Answer: ProviderSetting."""
        return self.ask("GET", "/identity-provider")

    def import_(self, id: str | int) -> Any:
        """How it stands. Answer: ImportView."""
        return self.ask("GET", f"/imports/{self.part(id)}")

    def invite_again(self, name: str | int, body: Any) -> Any:
        """Make a new link for somebody: mailed where that can be, else shown. Sent: LinkWantedSent. Answer: Invitation."""
        return self.ask("POST", f"/people/{self.part(name)}/invitation", body=body)

    def invite_person(self, body: Any) -> Any:
        """Invite somebody. Sent: PersonInviteSent. Answer: Invitation."""
        return self.ask("POST", "/people", body=body)

    def job(self, id: str | int) -> Any:
        """How it stands. Answer: JobView."""
        return self.ask("GET", f"/jobs/{self.part(id)}")

    def job_result(self, id: str | int) -> Any:
        """What the address that began it would have answered, a file or JSON; refused where it failed."""
        return self.ask("GET", f"/jobs/{self.part(id)}/result", raw=True)

    def jobs(self) -> Any:
        """The jobs of whoever asks, the newest first; what is over is kept for a day. Answer: list of JobView."""
        return self.ask("GET", "/jobs")

    def join_group(self, code: str | int, body: Any) -> Any:
        """Let more workloads be members. Sent: JoiningSent. Answer: GroupDetail."""
        return self.ask("POST", f"/groups/{self.part(code)}/members", body=body)

    def lab(self) -> Any:
        """What can be broken, and what is. Answer: Lab."""
        return self.ask("GET", "/practice-lab")

    def landings(self, body: Any) -> Any:
        """The before-and-after table of a crosswalk that need not be saved, with everything wrong with it. Sent: LandingsAskedSent. Answer: LandingsView."""
        return self.ask("POST", "/crosswalks/landings", body=body)

    def library(self) -> Any:
        """All scripts with the plans that run them, and the names of all secrets. Answer: Library."""
        return self.ask("GET", "/library")

    def logo(self) -> Any:
        """The picture."""
        return self.ask("GET", "/settings/logo", raw=True)

    def make_blackout(self, body: Any) -> Any:
        """Keep a time free. Sent: BlackoutSent. Answer: Calendar."""
        return self.ask("POST", "/blackouts", body=body)

    def make_crosswalk(self, body: Any) -> Any:
        """Make the first crosswalk in its direction. Sent: CrosswalkSent. Answer: CrosswalkSaved."""
        return self.ask("POST", "/crosswalks", body=body)

    def make_drill(self, body: Any) -> Any:
        """Put a drill on it. Sent: DrillSent. Answer: Calendar."""
        return self.ask("POST", "/drills", body=body)

    def make_group(self, body: Any) -> Any:
        """Protect workloads together; the site is told at once, or when it is back. Sent: GroupSaveSent. Answer: GroupDetail."""
        return self.ask("POST", "/groups", body=body)

    def make_plan(self, body: Any) -> Any:
        """Make a plan with its first version. Sent: PlanSaveSent. Answer: Saved."""
        return self.ask("POST", "/plans", body=body)

    def make_role(self, body: Any) -> Any:
        """Make a role of the permissions that there are. Sent: OwnRoleSaveSent. Answer: RoleView."""
        return self.ask("POST", "/roles", body=body)

    def make_token(self, body: Any) -> Any:
        """Make a token for a program. Sent: TokenAskedSent. Answer: TokenMade."""
        return self.ask("POST", "/account/tokens", body=body)

    def make_twin(self, source: str | int, target: str | int) -> Any:
        """Make the reverse crosswalk, and say what of it could not be reversed. Answer: TwinMade."""
        return self.ask("POST", f"/crosswalks/{self.part(source)}/{self.part(target)}/twin")

    def make_webhook(self, body: Any) -> Any:
        """One more; the secret is shown this once. Sent: WebhookSaveSent. Answer: WebhookMade."""
        return self.ask("POST", "/webhooks", body=body)

    def make_workload(self, body: Any) -> Any:
        """Write a new workload down. Sent: WorkloadMakeSent. Answer: WorkloadDetail."""
        return self.ask("POST", "/workloads", body=body)

    def mend_draft(self, code: str | int, body: Any) -> Any:
        """The draft with one finding mended; nothing is saved. Sent: MendAskedSent. Answer: Mended."""
        return self.ask("POST", f"/plans/{self.part(code)}/mend", body=body)

    def messages(self) -> Any:
        """Mail, webhooks, and the latest messages. Answer: Messages."""
        return self.ask("GET", "/messages")

    def move_agent(self, code: str | int, body: Any) -> Any:
        """Say where it is now, with which token and certificate; it is looked for before anything is kept. Sent: AgentAtSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}/agent", body=body)

    def my_messages(self) -> Any:
        """One's own preference. Answer: MyMessages."""
        return self.ask("GET", "/account/messages")

    def new_feed_address(self) -> Any:
        """Make a new private address; the one before ends. Answer: Calendar."""
        return self.ask("POST", "/drills/feed")

    def open_trap(self, id: str | int) -> Any:
        """It is not, after all. Answer: TrapView."""
        return self.ask("DELETE", f"/traps/{self.part(id)}/solved")

    def pause_group(self, code: str | int, body: Any) -> Any:
        """Pause copying for a reason, or go on. Sent: PauseCopyingSent. Answer: GroupDetail."""
        return self.ask("POST", f"/groups/{self.part(code)}/pause", body=body)

    def people(self) -> Any:
        """Everybody with their roles, and what roles there are. Answer: People."""
        return self.ask("GET", "/people")

    def pin_point(self, code: str | int, point: str | int, body: Any) -> Any:
        """Name a point so that it stays, or let it go. Sent: PinSent. Answer: GroupDetail."""
        return self.ask("PUT", f"/groups/{self.part(code)}/points/{self.part(point)}", body=body)

    def plan(self, code: str | int) -> Any:
        """The newest version; its ETag is what a save must be based on. Answer: PlanDetail."""
        return self.ask("GET", f"/plans/{self.part(code)}")

    def plan_file(self, code: str | int) -> Any:
        """The newest version as YAML."""
        return self.ask("GET", f"/plans/{self.part(code)}/file", raw=True)

    def plan_file_schema(self) -> Any:
        """For editors and pipelines."""
        return self.ask("GET", "/plan-files/schema")

    def plan_landings(self, code: str | int, *, filter: str = "") -> Any:
        """Every adapter of every member of the newest version, live and in a test. Answer: LandingsView."""
        return self.ask("GET", f"/plans/{self.part(code)}/landings", query={"filter": filter})

    def plan_points(self, code: str | int) -> Any:
        """Points of every group in the plan, oldest first. Answer: PlanPoints."""
        return self.ask("GET", f"/plans/{self.part(code)}/points")

    def plan_templates(self) -> Any:
        """Waves with rules and cues, without workloads. Answer: Templates."""
        return self.ask("GET", "/plan-templates")

    def plan_trend(self, code: str | int) -> Any:
        """Time to recover, data at risk, failures and waiting for people, run by run. Answer: Trend."""
        return self.ask("GET", f"/plans/{self.part(code)}/trend")

    def plan_version(self, code: str | int, number: str | int, *, against: str = "") -> Any:
        """The plan as it was, and what changed since, or up to another version. Answer: VersionView."""
        return self.ask("GET", f"/plans/{self.part(code)}/versions/{self.part(number)}", query={"against": against})

    def plans(self) -> Any:
        """Every plan in a line, with how it stood when that was last looked at. Answer: PlanList."""
        return self.ask("GET", "/plans")

    def policy_cost(self, body: Any) -> Any:
        """Bandwidth, space and points of a group as it is being edited; nothing is saved. Sent: GroupSaveSent. Answer: PolicyCost."""
        return self.ask("POST", "/group-cost", body=body)

    def preflight(self, code: str | int, body: Any) -> Any:
        """Judge a test with these choices, without starting it. Sent: RunOptionsSent. Answer: Preflight."""
        return self.ask("POST", f"/plans/{self.part(code)}/preflight", body=body)

    def proof(self, *, year: str = "") -> Any:
        """Plans over a year, services and when each last answered, and what no plan holds. Answer: Proof."""
        return self.ask("GET", "/evidence/proof", query={"year": year})

    def propose_rows(self, body: Any) -> Any:
        """Rows that a crosswalk, saved or not, could have; nothing is saved. Sent: CrosswalkSent. Answer: Proposals."""
        return self.ask("POST", "/crosswalks/proposals", body=body)

    def protection(self, *, find: str = "", limit: str = "") -> Any:
        """Groups with their health, links with their use, and what is not covered. Answer: Protection."""
        return self.ask("GET", "/groups", query={"find": find, "limit": limit})

    def read_plan_file(self, body: Any) -> Any:
        """Read a plan file without saving it: problems by line and column, and the findings of its plan. Sent: PlanTextSent. Answer: PlanFileRead."""
        return self.ask("POST", "/plan-files", body=body)

    def read_table(self, source: str | int, target: str | int, body: Any) -> Any:
        """Read a CSV file; nothing is saved. Sent: TableTextSent. Answer: TableRead."""
        return self.ask("POST", f"/crosswalks/{self.part(source)}/{self.part(target)}/table.csv", body=body)

    def readiness(self) -> Any:
        """Every plan, can it run now, would it meet its objectives, when was that proved. Answer: Readiness."""
        return self.ask("GET", "/readiness")

    def register_site(self, body: Any) -> Any:
        """Make a site known; its inventory is fetched from its agent. Sent: SiteMakeSent. Answer: SiteView."""
        return self.ask("POST", "/sites", body=body)

    def rehearse(self, code: str | int, body: Any, *, prefer: str = "") -> Any:
        """Play a draft through the engine and a practice world, with a fault of choice. Sent: RehearsalAskedSent. Answer: RehearsalView."""
        return self.ask("POST", f"/plans/{self.part(code)}/rehearsal", headers={"Prefer": prefer}, body=body)

    def remove_blackout(self, id: str | int) -> Any:
        """Let drills begin in it again. Answer: Calendar."""
        return self.ask("DELETE", f"/blackouts/{self.part(id)}")

    def remove_drill(self, id: str | int) -> Any:
        """Take it off the calendar. Answer: Calendar."""
        return self.ask("DELETE", f"/drills/{self.part(id)}")

    def remove_factor(self, body: Any) -> Any:
        """Remove one's own second factor. Sent: PasswordGivenSent. Answer: Account."""
        return self.ask("POST", "/account/second-factor/removal", body=body)

    def remove_factor_of(self, name: str | int) -> Any:
        """Remove somebody's second factor. Answer: PersonView."""
        return self.ask("DELETE", f"/people/{self.part(name)}/second-factor")

    def remove_feed_address(self) -> Any:
        """Take the feed away. Answer: Calendar."""
        return self.ask("DELETE", "/drills/feed")

    def remove_identity_provider(self) -> Any:
        """Remove it; refused while accounts sign in through it."""
        return self.ask("DELETE", "/identity-provider")

    def remove_logo(self) -> Any:
        """Documents go without one. Answer: SettingsView."""
        return self.ask("DELETE", "/settings/logo")

    def remove_passkey(self, id: str | int) -> Any:
        """Remove it. Answer: Account."""
        return self.ask("DELETE", f"/account/passkeys/{self.part(id)}")

    def remove_role(self, code: str | int) -> Any:
        """Remove a role of the organisation's own; refused while somebody has it."""
        return self.ask("DELETE", f"/roles/{self.part(code)}")

    def remove_script(self, name: str | int) -> Any:
        """Take it away; refused while a plan runs it."""
        return self.ask("DELETE", f"/scripts/{self.part(name)}")

    def remove_webhook(self, id: str | int) -> Any:
        """It is told nothing any more."""
        return self.ask("DELETE", f"/webhooks/{self.part(id)}")

    def remove_zone(self, zone: str | int) -> Any:
        """Forget it and its key; refused while a plan changes names of it."""
        return self.ask("DELETE", f"/zones/{self.part(zone)}")

    def replace_agent_token(self, code: str | int) -> Any:
        """Have the agent give another one, and use that from now on. Answer: SiteView."""
        return self.ask("POST", f"/sites/{self.part(code)}/agent/token")

    def report_csv(self, id: str | int) -> Any:
        """One row a step (RFC 4180)."""
        return self.ask("GET", f"/runs/{self.part(id)}/report.csv", raw=True)

    def report_html(self, id: str | int) -> Any:
        """Complete in itself, to read or to print."""
        return self.ask("GET", f"/runs/{self.part(id)}/report.html", raw=True)

    def report_json(self, id: str | int) -> Any:
        """Everything that the page says and more. Answer: Report."""
        return self.ask("GET", f"/runs/{self.part(id)}/report.json")

    def report_pdf(self, id: str | int, *, prefer: str = "") -> Any:
        """Tagged, with its text as text."""
        return self.ask("GET", f"/runs/{self.part(id)}/report.pdf", headers={"Prefer": prefer}, raw=True)

    def report_sample(self) -> Any:
        """The report of the newest run that has ended."""
        return self.ask("GET", "/evidence/sample.html", raw=True)

    def retire_crosswalk(self, source: str | int, target: str | int) -> Any:
        """Take it away; refused while a plan lands by it."""
        return self.ask("DELETE", f"/crosswalks/{self.part(source)}/{self.part(target)}")

    def retire_link(self, one: str | int, other: str | int) -> Any:
        """Take it away; refused while a group is copied over it."""
        return self.ask("DELETE", f"/links/{self.part(one)}/{self.part(other)}")

    def retire_plan(self, code: str | int) -> Any:
        """Forget it with its versions; refused while a run of it is under way. Runs keep what they ran."""
        return self.ask("DELETE", f"/plans/{self.part(code)}")

    def retire_site(self, code: str | int) -> Any:
        """Take it away; refused while something uses it."""
        return self.ask("DELETE", f"/sites/{self.part(code)}")

    def retire_workload(self, name: str | int) -> Any:
        """Remove it from the estate; refused while something uses it."""
        return self.ask("DELETE", f"/workloads/{self.part(name)}")

    def retire_front_doors(self, code: str | int, name: str | int) -> Any:
        """Retire it; refused while something uses it."""
        return self.ask("DELETE", f"/sites/{self.part(code)}/front-doors/{self.part(name)}")

    def retire_host_pools(self, code: str | int, name: str | int) -> Any:
        """Retire it; refused while something uses it."""
        return self.ask("DELETE", f"/sites/{self.part(code)}/host-pools/{self.part(name)}")

    def retire_networks(self, code: str | int, name: str | int) -> Any:
        """Retire it; refused while something uses it."""
        return self.ask("DELETE", f"/sites/{self.part(code)}/networks/{self.part(name)}")

    def retire_storage_pools(self, code: str | int, name: str | int) -> Any:
        """Retire it; refused while something uses it."""
        return self.ask("DELETE", f"/sites/{self.part(code)}/storage-pools/{self.part(name)}")

    def retired(self) -> Any:
        """What was retired and has not come back, the latest first. Answer: list of RetiredView."""
        return self.ask("GET", "/retired")

    def review_run(self, id: str | int, body: Any) -> Any:
        """Review an emergency start. Sent: ReviewSent. Answer: RunLine."""
        return self.ask("POST", f"/runs/{self.part(id)}/review", body=body)

    def revoke_token(self, key: str | int) -> Any:
        """Revoke a token. Answer: Account."""
        return self.ask("DELETE", f"/account/tokens/{self.part(key)}")

    def rotate_seal_key(self) -> Any:
        """Take a new key into use; what the old ones sealed can still be checked. Answer: SealKeys."""
        return self.ask("POST", "/evidence/keys")

    def run(self, id: str | int) -> Any:
        """How it stands, with its score. Answer: RunDetail."""
        return self.ask("GET", f"/runs/{self.part(id)}")

    def run_book(self, code: str | int) -> Any:
        """The newest version to print, complete in itself."""
        return self.ask("GET", f"/plans/{self.part(code)}/run-book", raw=True)

    def run_book_pdf(self, code: str | int, *, prefer: str = "") -> Any:
        """The newest version to keep where it can be read when everything is down."""
        return self.ask("GET", f"/plans/{self.part(code)}/run-book.pdf", headers={"Prefer": prefer}, raw=True)

    def run_events(self, id: str | int, *, after: str = "") -> Any:
        """Events in words, in order. Answer: list of EventView."""
        return self.ask("GET", f"/runs/{self.part(id)}/events", query={"after": after})

    def run_evidence(self, id: str | int) -> Any:
        """Its report, whether it is as it was sealed, and what was added to it. Answer: RunEvidence."""
        return self.ask("GET", f"/runs/{self.part(id)}/evidence")

    def run_fault_script(self, body: Any) -> Any:
        """Break everything that a fault script names. Sent: FaultScriptSentSent. Answer: Lab."""
        return self.ask("POST", "/practice-lab/fault-script", body=body)

    def run_landings(self, id: str | int) -> Any:
        """Planned and actual, adapter by adapter. Answer: RunLandings."""
        return self.ask("GET", f"/runs/{self.part(id)}/landings")

    def run_step(self, id: str | int, *, step: str) -> Any:
        """What its site was asked, and what it said each time. Answer: StepAsked."""
        return self.ask("GET", f"/runs/{self.part(id)}/step", query={"step": step})

    def run_traps(self, id: str | int) -> Any:
        """Those that are open, or were solved since it began. Answer: list of TrapView."""
        return self.ask("GET", f"/runs/{self.part(id)}/traps")

    def run_views(self) -> Any:
        """By name. Answer: list of SavedRunView."""
        return self.ask("GET", "/run-views")

    def runs(self, *, cursor: str = "", find: str = "", kind: str = "", outcome: str = "", plan: str = "", since: str = "", until: str = "") -> Any:
        """Runs, newest first, a hundred at a time. Answer: RunPage."""
        return self.ask("GET", "/runs", query={"cursor": cursor, "find": find, "kind": kind, "outcome": outcome, "plan": plan, "since": since, "until": until})

    def save_account(self, body: Any) -> Any:
        """Change one's own name and mail. Sent: AccountSaveSent. Answer: Account."""
        return self.ask("PUT", "/account", body=body)

    def save_approval_rules(self, body: Any) -> Any:
        """Say what needs second signatures. Sent: ApprovalRulesSent. Answer: ApprovalRules."""
        return self.ask("PUT", "/approval-rules", body=body)

    def save_crosswalk(self, source: str | int, target: str | int, body: Any, *, if_match: str) -> Any:
        """Replace it; 412 where somebody else was quicker. Sent: CrosswalkSent. Answer: CrosswalkSaved."""
        return self.ask("PUT", f"/crosswalks/{self.part(source)}/{self.part(target)}", headers={"If-Match": if_match}, body=body)

    def save_escalation(self, body: Any) -> Any:
        """Change it. Sent: EscalationSaveSent. Answer: Messages."""
        return self.ask("PUT", "/messages/escalation", body=body)

    def save_filter(self, body: Any) -> Any:
        """Name a filter, or give a name another filter. Sent: SavedFilterViewSent. Answer: SavedFilterView."""
        return self.ask("POST", "/filters", body=body)

    def save_identity_provider(self, body: Any) -> Any:
        """Set it, or change it; without a secret, the one of now stays. Sent: ProviderSaveSent. Answer: ProviderSetting."""
        return self.ask("PUT", "/identity-provider", body=body)

    def save_link(self, body: Any) -> Any:
        """Make or change the link between two sites. Sent: LinkSent. Answer: Link."""
        return self.ask("PUT", "/links", body=body)

    def save_logo(self, body: bytes) -> Any:
        """A PNG or JPEG picture of up to 512 KiB. Answer: SettingsView."""
        return self.ask("PUT", "/settings/logo", body=body)

    def save_person(self, name: str | int, body: Any) -> Any:
        """Change somebody's name, mail, roles, or whether they can sign in. Sent: PersonSaveSent. Answer: PersonView."""
        return self.ask("PUT", f"/people/{self.part(name)}", body=body)

    def save_plan(self, code: str | int, body: Any, *, if_match: str) -> Any:
        """Save a new version; 412 says what somebody else changed in between. Sent: PlanSaveSent. Answer: Saved."""
        return self.ask("PUT", f"/plans/{self.part(code)}", headers={"If-Match": if_match}, body=body)

    def save_reading(self, body: Any) -> Any:
        """Choose time zone, form of dates, and theme. Sent: ReadingSaveSent. Answer: Session."""
        return self.ask("PUT", "/account/reading", body=body)

    def save_role(self, code: str | int, body: Any) -> Any:
        """Say whether holders of a role must have a second factor. Sent: RoleSaveSent. Answer: RoleView."""
        return self.ask("PUT", f"/roles/{self.part(code)}", body=body)

    def save_run_view(self, body: Any) -> Any:
        """Name a filter, or give a name another one. Sent: SavedRunViewSent. Answer: list of SavedRunView."""
        return self.ask("PUT", "/run-views", body=body)

    def save_script(self, name: str | int, body: Any) -> Any:
        """Keep it; plans that run it say that its text changed until they take the new one in. Sent: ScriptSaveSent. Answer: ScriptView."""
        return self.ask("PUT", f"/scripts/{self.part(name)}", body=body)

    def save_settings(self, body: Any, *, if_match: str) -> Any:
        """Set them; If-Match names the revision that the change began from. Sent: SettingsSent. Answer: SettingsView."""
        return self.ask("PUT", "/settings", headers={"If-Match": if_match}, body=body)

    def save_zone(self, zone: str | int, body: Any) -> Any:
        """Keep its servers and its key. Sent: ZoneSaveSent. Answer: ZoneView."""
        return self.ask("PUT", f"/zones/{self.part(zone)}", body=body)

    def save_front_doors(self, code: str | int, name: str | int, body: Any) -> Any:
        """Change it, or make it where it is not there. Sent: FrontDoorSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}/front-doors/{self.part(name)}", body=body)

    def save_host_pools(self, code: str | int, name: str | int, body: Any) -> Any:
        """Change it, or make it where it is not there. Sent: HostPoolSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}/host-pools/{self.part(name)}", body=body)

    def save_networks(self, code: str | int, name: str | int, body: Any) -> Any:
        """Change it, or make it where it is not there. Sent: NetworkSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}/networks/{self.part(name)}", body=body)

    def save_storage_pools(self, code: str | int, name: str | int, body: Any) -> Any:
        """Change it, or make it where it is not there. Sent: StoragePoolSent. Answer: SiteView."""
        return self.ask("PUT", f"/sites/{self.part(code)}/storage-pools/{self.part(name)}", body=body)

    def saved_filters(self) -> Any:
        """All of them. Answer: list of SavedFilterView."""
        return self.ask("GET", "/filters")

    def saw_found_running(self, id: str | int) -> Any:
        """Say that somebody looked at what they wrote. Answer: RunStatus."""
        return self.ask("POST", f"/runs/{self.part(id)}/found-running/seen")

    def seal_keys(self) -> Any:
        """All public keys that were ever in use, as a JWK set. Answer: SealKeys."""
        return self.ask("GET", "/evidence/keys")

    def search(self, *, find: str = "") -> Any:
        """Plans, runs, workloads, groups, sites, scripts and findings that hold all the words. Answer: SearchResult."""
        return self.ask("GET", "/search", query={"find": find})

    def see_run(self, id: str | int) -> Any:
        """Nobody else is told of it in their place."""
        return self.ask("POST", f"/runs/{self.part(id)}/seen")

    def send_again(self, uid: str | int) -> Any:
        """Try it now. Answer: MessageView."""
        return self.ask("POST", f"/messages/{self.part(uid)}/again")

    def session(self) -> Any:
        """Who is signed in. Answer: Session."""
        return self.ask("GET", "/session")

    def settings(self) -> Any:
        """Its name, its time zone, the words of its documents, and how long runs are kept. Answer: SettingsView."""
        return self.ask("GET", "/settings")

    def sign_in(self, body: Any) -> Any:
        """Sign in. Sent: SignInSent. Answer: Session."""
        return self.ask("POST", "/session", body=body)

    def sign_in_through(self, body: Any) -> Any:
        """Sign in with the answer that the provider sent the browser back with. Sent: ProviderAnswerSent. Answer: Session."""
        return self.ask("POST", "/session/provider", body=body)

    def sign_in_with_passkey(self, body: Any) -> Any:
        """Sign in with what the device signed. Sent: PasskeyAnswerSent. Answer: Session."""
        return self.ask("POST", "/session/passkey", body=body)

    def sign_out(self) -> Any:
        """Sign out."""
        return self.ask("DELETE", "/session")

    def site_line(self) -> Any:
        """Sites, what runs where, which way protection flows, and runs under way. Answer: SiteLine."""
        return self.ask("GET", "/site-line")

    def site_requests(self, *, cursor: str = "", site: str = "") -> Any:
        """What sites were asked for outside of runs: all that waits, and the latest of the rest. Answer: RequestPage."""
        return self.ask("GET", "/site-requests", query={"cursor": cursor, "site": site})

    def sites(self) -> Any:
        """Sites with their pools, networks and front doors, and the links between them. Answer: Sites."""
        return self.ask("GET", "/sites")

    def solve_trap(self, id: str | int, body: Any) -> Any:
        """It is. Sent: TrapSolvedSent. Answer: TrapView."""
        return self.ask("PUT", f"/traps/{self.part(id)}/solved", body=body)

    def standbys(self) -> Any:
        """Who follows at this moment, and whether anything is missing there. Answer: Standbys."""
        return self.ask("GET", "/standbys")

    def start_run(self, body: Any, *, idempotency_key: str) -> Any:
        """Start a run. Sent: StartRunSent. Answer: RunLine."""
        return self.ask("POST", "/runs", headers={"Idempotency-Key": idempotency_key}, body=body)

    def store_key(self, code: str | int, body: Any) -> Any:
        """Store it; there is no way to read it. Sent: KeySaveSent."""
        return self.ask("PUT", f"/groups/{self.part(code)}/key", body=body)

    def store_secret(self, name: str | int, body: Any) -> Any:
        """Keep its value, encrypted. Sent: SecretSaveSent."""
        return self.ask("PUT", f"/secrets/{self.part(name)}", body=body)

    def suggest_waves(self, body: Any) -> Any:
        """Propose waves and dependencies with reasons; nothing is saved. Sent: SuggestAskedSent. Answer: Suggestion."""
        return self.ask("POST", "/plan-suggestions", body=body)

    def tag_workloads(self, body: Any) -> Any:
        """Give and take tags. Sent: TaggingSent. Answer: Changed."""
        return self.ask("POST", "/workload-tags", body=body)

    def take_over(self, body: Any) -> Any:
        """Have it take over from its primary, which cannot be taken back. Sent: TakeoverAskedSent. Answer: Takeover."""
        return self.ask("POST", "/takeover", body=body)

    def takeover(self) -> Any:
        """How it follows, and what a takeover would mean. Answer: Takeover."""
        return self.ask("GET", "/takeover")

    def tell_run(self, id: str | int, body: Any, *, idempotency_key: str = "") -> Any:
        """Hold, resume, abort, retry, skip, answer, judge, commit, roll back or take another point. Sent: ControlSent. Answer: RunStatus."""
        return self.ask("POST", f"/runs/{self.part(id)}/controls", headers={"Idempotency-Key": idempotency_key}, body=body)

    def traps(self, *, about: str = "", name: str = "") -> Any:
        """All of one thing, also those that are solved; or the open ones of everything. Answer: list of TrapView."""
        return self.ask("GET", "/traps", query={"about": about, "name": name})

    def try_drill(self, body: Any) -> Any:
        """What it would mean, in words and in its next times. Sent: DrillSent. Answer: DrillTried."""
        return self.ask("POST", "/drills/try", body=body)

    def try_identity_provider(self) -> Any:
        """Ask the provider what it says of itself. Answer: ProviderFound."""
        return self.ask("POST", "/identity-provider/try")

    def try_mail(self) -> Any:
        """Send it now, and say what the server said. Answer: ChannelTried."""
        return self.ask("POST", "/messages/mail/try")

    def try_rules(self, body: Any) -> Any:
        """What the rules of a crosswalk, saved or not, make of addresses. Sent: TrialSent. Answer: Trials."""
        return self.ask("POST", "/crosswalks/trial", body=body)

    def try_run_again(self, id: str | int) -> Any:
        """Let it be conducted again; it is put aside anew if the same goes wrong."""
        return self.ask("POST", f"/runs/{self.part(id)}/try-again")

    def try_webhook(self, id: str | int) -> Any:
        """Send it now, and say what it answered. Answer: ChannelTried."""
        return self.ask("POST", f"/webhooks/{self.part(id)}/try")

    def try_zone(self, zone: str | int) -> Any:
        """Ask every server, and the primary for a change of nothing; and read its names anew. Answer: ZoneTried."""
        return self.ask("POST", f"/zones/{self.part(zone)}/trial")

    def uses(self) -> Any:
        """Every use in the estate. Answer: UseMap."""
        return self.ask("GET", "/uses")

    def verify_evidence(self, body: bytes) -> Any:
        """Whether the events are those that were sealed, and with a key of this installation. Answer: Verification."""
        return self.ask("POST", "/evidence/verify", body=body)

    def want_backup(self) -> Any:
        """Have one made now, where and as those by the clock are; the list says what became of it. Answer: Backups."""
        return self.ask("POST", "/backups")

    def what_helps(self, code: str | int, body: Any, *, prefer: str = "") -> Any:
        """Changes that would save time, each worked out. Sent: DraftSent. Answer: Helps."""
        return self.ask("POST", f"/plans/{self.part(code)}/helps", headers={"Prefer": prefer}, body=body)

    def withdraw_approval(self, id: str | int) -> Any:
        """Withdraw one's own request. Answer: ApprovalView."""
        return self.ask("DELETE", f"/approvals/{self.part(id)}")

    def withdraw_outage(self, id: str | int) -> Any:
        """It is not so, or not any more. Answer: OutageView."""
        return self.ask("DELETE", f"/declared/{self.part(id)}")

    def workload(self, name: str | int) -> Any:
        """Everything of it. Its revision is the ETag. Answer: WorkloadDetail."""
        return self.ask("GET", f"/workloads/{self.part(name)}")

    def workloads(self, *, filter: str = "", limit: str = "", offset: str = "", sort: str = "") -> Any:
        """A stretch of what a filter finds. Answer: Found."""
        return self.ask("GET", "/workloads", query={"filter": filter, "limit": limit, "offset": offset, "sort": sort})

    def write_plan_file(self, code: str | int, body: Any) -> Any:
        """A draft as YAML. Sent: PlanSaveSent. Answer: PlanText."""
        return self.ask("POST", f"/plans/{self.part(code)}/file", body=body)

    def zones(self) -> Any:
        """All of them, with the names that plans change and what those lead to now. Answer: list of ZoneView."""
        return self.ask("GET", "/zones")
