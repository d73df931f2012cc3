"""What can go wrong, as a small tree.

ClientError
 ├─ ServiceUnreachable     no answer at all: wrong address, not running, network
 └─ ProblemResponse        the service refused; `problem` is its RFC 9457 document
     ├─ NotAllowedError      401, 403: sign in, or another token
     ├─ NotFoundError        404
     │   └─ NoMessageError     a wait for a message is over
     ├─ AlreadyThereError    409
     ├─ InvalidInputError    400, 413, 415, 422: `problem.errors` names the places
     └─ UnavailableError     429, 5xx: retry later
"""

import httpx
from pydantic import ValidationError

from rust_gauge.contract.common import Problem


class ClientError(Exception):
    """The root of all errors of the client."""


class ServiceUnreachable(ClientError):
    """The service did not answer."""


class ProblemResponse(ClientError):
    """The service refused the request. `str()` is its message, `problem` the whole document."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail or problem.title)
        self.problem = problem


class NotAllowedError(ProblemResponse):
    """No session or token, or one without this permission."""


class NotFoundError(ProblemResponse):
    """It does not exist, or belongs to another tenant."""


class NoMessageError(NotFoundError):
    """No matching message arrived in the tray in time."""


class AlreadyThereError(ProblemResponse):
    """It exists already."""


class InvalidInputError(ProblemResponse):
    """The request contains invalid values."""


class UnavailableError(ProblemResponse):
    """The service cannot answer now."""


_BY_STATUS: dict[int, type[ProblemResponse]] = {
    401: NotAllowedError,
    403: NotAllowedError,
    404: NotFoundError,
    409: AlreadyThereError,
    429: UnavailableError,
}


def error_of(response: httpx.Response) -> ProblemResponse:
    """Return the exception for a response that is not a success."""
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:  # something else answered, a proxy perhaps
        detail = f"{response.request.url.host} answered {response.status_code} without saying why"
        problem = Problem(type="about:blank", title=response.reason_phrase, status=response.status_code, detail=detail)
    status = response.status_code
    fallback = UnavailableError if status >= 500 else InvalidInputError
    return _BY_STATUS.get(status, fallback)(problem)
