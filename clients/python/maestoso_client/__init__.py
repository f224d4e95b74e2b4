"""A client of Maestoso's API that needs nothing but Python: ``Client(address, token).plans()``."""

from maestoso_client.line import NotReached, Refused
from maestoso_client.operations import Operations

__all__ = ["Client", "NotReached", "Refused"]


class Client(Operations):
    """``address`` is what people type, such as https://maestoso.example; ``token`` is one of *My account*.

    ``ca`` is a PEM file of an authority that is trusted as well.
    """
