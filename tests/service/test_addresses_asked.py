"""What stands in an address after the question mark: a name that an operation does not know is refused with the nearest known one."""

from __future__ import annotations

from collections.abc import Callable

import httpx
import pytest

from tests.helpers import Running


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("/api/records?record_typ=invoice", "'record_typ' in the address is not known here. Is 'record_type' meant?"),
        ("/api/runs?state=done&flwo=x", "Is 'flow' meant? Known: cursor, flow, item, limit, state."),
        ("/api/flows?name=x", "'name' in the address is not known here. Nothing can be said there."),
    ],
)
def test_a_name_that_is_not_known_is_refused_and_not_left_out(address: str, said: str, running: Callable[..., Running]) -> None:
    service = running()
    answer = httpx.get(f"{service.url}{address}", headers={"Authorization": f"Bearer {service.token}"})
    assert answer.status_code == 422
    assert said in answer.json()["detail"]
    assert httpx.get(f"{service.url}{address}").status_code == 401, "whoever is not signed in learns nothing"
    assert httpx.get(f"{service.url}/ready?at=1").status_code == 200, "a monitor may put there what it likes"
