"""Why edits must wait: whoever needs a recording as it is takes a lease, and lets go of just that."""

from __future__ import annotations


class Lease:
    """One reason to wait, until it is released; releasing it twice does nothing."""

    def __init__(self, leases: Leases, reason: str) -> None:
        self._leases = leases
        self.reason = reason

    def release(self) -> None:
        """Have edits no longer wait for this."""
        self._leases.end(self)


class Leases:
    """The leases on one recording, and those above them that are on all.

    Each ends by itself: that one is released says nothing of the others.
    """

    def __init__(self, above: Leases | None = None) -> None:
        self.above = above
        self._taken: list[Lease] = []

    @property
    def reason(self) -> str:
        """Why edits must wait, in a sentence: the oldest lease's reason; nothing if none is taken."""
        if self._taken:
            return self._taken[0].reason
        return self.above.reason if self.above else ""

    def take(self, reason: str) -> Lease:
        """Have edits wait until the lease is released."""
        lease = Lease(self, reason)
        self._taken.append(lease)
        return lease

    def end(self, lease: Lease) -> None:
        """Take a lease off the list."""
        if lease in self._taken:
            self._taken.remove(lease)
