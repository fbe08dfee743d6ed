"""Within one look at the data, the same question has the same answer: it is asked once."""

from collections.abc import Callable, Hashable
from functools import wraps
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar, cast

_Asked = ParamSpec("_Asked")
_Answer = TypeVar("_Answer")


class Looks(Protocol):
    """What has been answered so far; None inside a change, where answers do not last."""

    known: dict[Hashable, Any] | None


_Self = TypeVar("_Self", bound=Looks)


def remembered(
    method: Callable[Concatenate[_Self, _Asked], _Answer],
) -> Callable[Concatenate[_Self, _Asked], _Answer]:
    """A question whose answer is kept as long as the look that it was asked in."""

    @wraps(method)
    def ask(self: _Self, *args: _Asked.args, **kwargs: _Asked.kwargs) -> _Answer:
        if self.known is None:
            return method(self, *args, **kwargs)
        key = (method.__qualname__, args, tuple(kwargs.items()))
        if key not in self.known:
            self.known[key] = method(self, *args, **kwargs)
        answer: _Answer = self.known[key]
        return answer

    return cast(Callable[Concatenate[_Self, _Asked], _Answer], ask)
