"""Where the machines of a run are, as far as its steps say: up, down, fenced, and where they are writable.

Everything that is said of them on any page, in the report or on the board asks here.
"""

from __future__ import annotations

from maestoso.core.runs.state import RunState

GIVEN_UP = "give-up:run"
"""With it the source turns off and fences whatever it still has of the workloads."""


def done(state: RunState, step: str) -> bool:
    """Whether a step is there and was done."""
    return step in state.steps and state.steps[step].status == "done"


def up_at_target(state: RunState) -> frozenset[str]:
    """Workloads whose copies have power at the target. Another point takes them down until they are back."""
    return frozenset(
        member.workload
        for _, member in state.inputs.plan.members()
        if done(state, f"power-on:{member.workload}")
        and not done(state, f"power-off:{member.workload}")
        and not done(state, f"discard-clone:{member.workload}")
    )


def taken_down(state: RunState) -> frozenset[str]:
    """Workloads that the run shut down at the source and has not started there again."""
    return _left_at_source(state, "shut-down", "start-again")


def fenced(state: RunState) -> frozenset[str]:
    """Workloads that can have no power at the source, because the run fenced them there."""
    return _left_at_source(state, "fence", "lift-fence")


def _left_at_source(state: RunState, deed: str, undone: str) -> frozenset[str]:
    """Workloads with which ``deed`` was done at the source, and not undone since."""
    names = state.inputs.plan.workloads()
    if done(state, GIVEN_UP):
        return frozenset(names)
    return frozenset(
        name for name in names if done(state, f"{deed}:{name}") and not done(state, f"{undone}:{name}")
    )


def writable_at_target(state: RunState, group: str) -> bool:
    """Whether the copies of a group are writable at the target."""
    return done(state, f"promote:{group}") and not done(state, f"demote:{group}")
