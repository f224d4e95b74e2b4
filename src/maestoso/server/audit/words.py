"""What a request did, in the words of the audit trail: by the name of its address and its method."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

DID: dict[str, dict[str, str]] = {
    # Signing in and people.
    "session": {"POST": "Signed in", "DELETE": "Signed out"},
    "witness": {"PUT": "Made {body.site} the witness", "DELETE": "Went on without a witness"},
    "takeover": {"POST": "Had this standby take over"},
    "sign-in-with-passkey": {"POST": "Signed in with a passkey"},
    "account-passkeys": {"POST": "Added the passkey {body.name}"},
    "account-passkey": {"DELETE": "Removed passkey {pk}"},
    "sign-in-through": {"POST": "Signed in through the identity provider"},
    "account-messages": {"PUT": "Chose what to be told"},
    "escalation": {"PUT": "Changed who is told in turn"},
    "try-mail": {"POST": "Tried mail"},
    "message-again": {"POST": "Sent a message again"},
    "webhooks": {"POST": "Added the webhook {body.name}"},
    "webhook": {"PUT": "Changed the webhook {body.name}", "DELETE": "Removed webhook {pk}"},
    "try-webhook": {"POST": "Tried webhook {pk}"},
    "identity-provider": {
        "PUT": "Changed the identity provider",
        "DELETE": "Removed the identity provider",
    },
    "invitations": {"POST": "Chose a password by an invitation and signed in"},
    "people": {"POST": "Invited {body.name}"},
    "person": {"PUT": "Changed the person {name}"},
    "person-invitation": {"POST": "Made a new link for {name}"},
    "account": {"PUT": "Changed their own name or mail"},
    "account-reading": {"PUT": "Chose how they read dates and pages"},
    "account-password": {"POST": "Changed their own password"},
    "account-sessions": {"DELETE": "Signed out everywhere else"},
    "account-second-factor": {
        "POST": "Began to set up a second factor",
        "PUT": "Set up a second factor",
    },
    "factor-removal": {"POST": "Removed their own second factor"},
    "person-second-factor": {"DELETE": "Removed the second factor of {name}"},
    "roles": {"POST": "Made the role {body.name}"},
    "role": {"PUT": "Changed what the role {code} wants at sign-in", "DELETE": "Removed the role {code}"},
    "role-definition": {"PUT": "Changed what the role {code} may"},
    "account-tokens": {"POST": "Made the token {body.name}"},
    "account-token": {"DELETE": "Revoked the token {key}"},
    # The organisation.
    "settings": {"PUT": "Changed the settings of the organisation"},
    "logo": {"PUT": "Changed the logo", "DELETE": "Removed the logo"},
    "job": {"DELETE": "Cancelled the job {pk}"},
    # The estate.
    "sites": {"POST": "Registered the site {body.code}"},
    "site": {"PUT": "Changed the site {code}", "DELETE": "Retired the site {code}"},
    "host-pool": {
        "PUT": "Changed the host pool {name} at {code}",
        "DELETE": "Removed the host pool {name} at {code}",
    },
    "storage-pool": {
        "PUT": "Changed the storage pool {name} at {code}",
        "DELETE": "Removed the storage pool {name} at {code}",
    },
    "network": {
        "PUT": "Changed the network {name} at {code}",
        "DELETE": "Removed the network {name} at {code}",
    },
    "front-door": {
        "PUT": "Changed the front door {name} at {code}",
        "DELETE": "Removed the front door {name} at {code}",
    },
    "site-agent": {"PUT": "Changed address, token or certificate of the agent of {code}"},
    "site-agent-token": {"POST": "Replaced the token of the agent of {code}"},
    "site-forgot-seen": {"POST": "Acknowledged that the agent of {code} lost its memory"},
    "drift": {"POST": "Accepted differences of {code} into the records"},
    "links": {"PUT": "Changed the link {body.one} to {body.other}"},
    "link": {"DELETE": "Retired the link {one} to {other}"},
    "workloads": {"POST": "Added the workload {body.workload.name}"},
    "workload": {"PUT": "Changed the workload {name}", "DELETE": "Retired the workload {name}"},
    "bring-back": {"POST": "Restored a retired thing"},
    "workload-tags": {"POST": "Changed tags of workloads"},
    "filters": {"POST": "Saved the filter {body.name}"},
    "filter": {"DELETE": "Removed the filter {name}"},
    "imports": {"POST": "Read a file for import"},
    "import": {"POST": "Imported what file {pk} holds", "DELETE": "Stopped the import of file {pk}"},
    # Protection.
    "protection": {"POST": "Protected workloads in the group {body.group.code}"},
    "group": {"PUT": "Changed the group {code}", "DELETE": "Ended the protection of {code}"},
    "members": {"POST": "Added workloads to the group {code}"},
    "pause": {"POST": "Paused or resumed copying of {code}"},
    "key": {"PUT": "Stored the key of {code}"},
    "pin": {"PUT": "Pinned or unpinned the point {point} of {code}"},
    # Crosswalks.
    "crosswalks": {"POST": "Made the crosswalk {body.source} to {body.target}"},
    "crosswalk": {
        "PUT": "Changed the crosswalk {source} to {target}",
        "DELETE": "Retired the crosswalk {source} to {target}",
    },
    "crosswalk-twin": {"POST": "Made the reverse crosswalk of {source} to {target}"},
    "held-landings": {"POST": "Asked {code} to hold landings again"},
    # Scripts and secrets.
    "script": {"PUT": "Saved the script {name}", "DELETE": "Removed the script {name}"},
    "secret": {"PUT": "Stored the secret {name}", "DELETE": "Removed the secret {name}"},
    # Declared outages.
    "declare": {"POST": "Declared an outage of {body.site}{body.plan}: {body.reason}"},
    "declared-outage": {"DELETE": "Withdrew the declared outage {pk}"},
    # Names.
    "backups": {"POST": "Asked for a backup"},
    "zone": {"PUT": "Saved the zone {zone} and its servers", "DELETE": "Removed the zone {zone}"},
    "zone-trial": {"POST": "Tried the servers of the zone {zone}"},
    # Plans.
    "plans": {"POST": "Made the plan {body.plan.code}"},
    "plan": {"PUT": "Saved a version of the plan {code}", "DELETE": "Retired the plan {code}"},
    # Runs.
    "runs": {"POST": "Started a run of {body.plan}"},
    "run-controls": {"POST": "Told run {pk}: {body.kind}"},
    "run-try-again": {"POST": "Let the engine try run {pk} again"},
    "run-found-running": {"POST": "Acknowledged copies that were found running in run {pk}"},
    "run-review": {"POST": "Reviewed the emergency start of run {pk}"},
    "run-views": {"PUT": "Saved a view of the runs", "DELETE": "Removed a view of the runs"},
    "traps": {"POST": "Added a known trap of {body.name}"},
    "trap-solved": {
        "PUT": "Marked known trap {pk} as solved",
        "DELETE": "Marked known trap {pk} as not solved",
    },
    # Second signatures.
    "approvals": {"POST": "Asked for approval to start {body.plan}"},
    "approvals-of-deeds": {"POST": "Asked for approval of {body.method} {body.path}"},
    "approval": {"DELETE": "Withdrew the request for approval {pk}"},
    "approval-answer": {"POST": "Answered the request for approval {pk}"},
    "approval-rules": {"PUT": "Changed what needs an approval"},
    # Evidence. What is only read is noted where it leaves the house.
    "run-notes": {"POST": "Added a note to run {pk}"},
    "run-files": {"POST": "Added a file to run {pk}"},
    "run-legal-hold": {"PUT": "Set or released the legal hold on run {pk}"},
    "seal-keys": {"POST": "Took a new seal key into use"},
    "run-report-html": {"GET": "Opened the report of run {pk}"},
    "run-report-pdf": {"GET": "Downloaded the report of run {pk}"},
    "run-report-json": {"GET": "Downloaded the data of run {pk}"},
    "run-report-csv": {"GET": "Downloaded the steps of run {pk}"},
    "run-evidence-file": {"GET": "Downloaded the evidence of run {pk}"},
    "run-file": {"GET": "Downloaded file {number} of run {pk}"},
    "evidence-archive": {"GET": "Downloaded evidence for an auditor"},
    "audit-file": {"GET": "Downloaded the audit trail"},
    # Drills.
    "drills": {"POST": "Scheduled the drill {body.name} of {body.plan}"},
    "drill": {"PUT": "Changed drill {pk}", "DELETE": "Removed drill {pk} from the calendar"},
    "drill-feed": {
        "POST": "Made a private address of the calendar",
        "DELETE": "Removed the calendar's address",
    },
    "blackouts": {"POST": "Added the black-out {body.name}"},
    "blackout": {"DELETE": "Removed black-out {pk}"},
    # The practice lab.
    "lab": {"POST": "Broke something in the practice lab", "DELETE": "Put the practice lab right"},
    "fault-script": {"POST": "Set a fault script in the practice lab"},
}
"""Values in braces are those of the address, or of the body where it says ``body.``."""
LOOKS_ONLY = frozenset(
    {
        "plan-assessment", "plan-preflight", "plan-file", "plan-files", "plan-landings", "plan-helps",
        "plan-rehearsal", "plan-mend", "plan-suggestions", "crosswalk-landings", "crosswalk-proposals",
        "crosswalk-trial", "crosswalk-table", "group-cost", "drill-try", "verify", "try-provider",
        "run-seen", "provider-address", "passkey-options", "passkey-options-to-add",
        "forgotten",  # noted where somebody is mailed: else anybody could fill the trail with any names
    }
)  # fmt: skip
"""Addresses that are sent something only to be told what it would mean."""
SIGN_INS = ("session", "session/provider", "session/passkey", "invitations")
"""Paths of entries that say who came and went."""
LONGEST_VALUE = 60


def what_it_did(name: str, method: str, address: Mapping[str, Any], body: Any) -> str:
    """In the words of the table."""
    return filled(DID[name][method], address, body)


def filled(words: str, address: Mapping[str, Any], body: Any) -> str:
    """Words with the values of an address and a body; what these lack is left open."""
    while "{" in words:
        before, _, rest = words.partition("{")
        key, _, after = rest.partition("}")
        words = f"{before}{_value(key, address, body)}{after}"
    return words


def _value(key: str, address: Mapping[str, Any], body: Any) -> str:
    found: Any = address.get(key)
    if key.startswith("body."):
        found = body
        for part in key.split(".")[1:]:
            found = found.get(part) if isinstance(found, dict) else None
    text = "…" if found is None or isinstance(found, dict | list) else str(found)[:LONGEST_VALUE]
    return text.replace("{", "(").replace("}", ")")
