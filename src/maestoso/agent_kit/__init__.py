"""A kit for site agents: the server side of the site protocol, so that an agent is its platform and nothing
else.

It needs nothing of Maestoso but the document that lies beside it, and can be copied out of the tree. See
``docs/agent-kit.md``; ``python -m maestoso.agent_kit new NAME`` writes a skeleton, ``... check URL`` is the
conformance test.
"""

from .agent import Agent
from .platform import Failure, NotKnown, Operation, Platform
from .server import serve

__all__ = ["Agent", "Failure", "NotKnown", "Operation", "Platform", "serve"]
