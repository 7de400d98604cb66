"""How often one may fail to sign in: after a few tries each failure doubles the wait."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import Engine, delete, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from mossy_trail.store.team import Tries

OF_ACCOUNT, OF_ADDRESS = 5, 20
"""So many in a row cost nothing; an address may be that of a whole office."""
LONGEST = 900
FORGOTTEN = timedelta(days=1)


class TooMany(Exception):
    """Another try must wait, for so many seconds."""

    def __init__(self, seconds: int) -> None:
        super().__init__(seconds)
        self.seconds = seconds


def begin(engine: Engine, email: str, address: str) -> None:
    """Count a try as failed before it is made, so that many at once are no way around.

    Raises `TooMany` where it must wait; then it is not counted.
    """
    now = datetime.now(UTC)
    free = {_account(email): OF_ACCOUNT, _address(address): OF_ADDRESS}
    with Session(engine) as session, session.begin():
        session.execute(delete(Tries).where(Tries.tried_at < now - FORGOTTEN))
        counted = [_locked(session, key, now) for key in sorted(free)]
        until = max(one.wait_until for one in counted)
        if until > now:
            raise TooMany(int((until - now).total_seconds()) + 1)
        for one in counted:
            one.failed, one.tried_at = one.failed + 1, now
            one.wait_until = now + timedelta(seconds=_wait(one.failed - free[one.key]))


def went_well(engine: Engine, email: str, address: str) -> None:
    """The account starts anew. The address only takes this try back: else who has one account
    could try all others from there."""
    with Session(engine) as session, session.begin():
        session.execute(delete(Tries).where(Tries.key == _account(email)))
        back = update(Tries).where(Tries.key == _address(address))
        session.execute(back.values(failed=Tries.failed - 1))


def _account(email: str) -> str:
    return f"account {email}"


def _address(address: str) -> str:
    return f"address {address}"


def _locked(session: Session, key: str, now: datetime) -> Tries:
    new = insert(Tries).values(key=key, failed=0, tried_at=now, wait_until=now)
    session.execute(new.on_conflict_do_nothing())
    return session.scalars(select(Tries).where(Tries.key == key).with_for_update()).one()


def _wait(over: int) -> int:
    return 0 if over < 0 else min(2**over, LONGEST)
