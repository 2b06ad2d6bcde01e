"""A short run of what `make prove` does at length: whatever is asked, the service answers as it is described."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from metrikon.demo import scenario
from tests.conftest import SEED
from tests.fuzzing import Fuzzed, fuzz
from tests.helpers import Running

EXAMPLES = 3  # of each operation; `make prove` makes hundreds


@pytest.mark.filterwarnings("ignore")
def test_whatever_is_asked_is_answered_as_described(running: Callable[..., Running]) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.document("09-brackendale-wrong-sum.pdf"), name="a.pdf")
    run = service.client.wait(sent.run_id)
    known = {"name": [scenario.FLOW, "invoice"], "id": [each for each in (sent.run_id, sent.item_id, run.record_id) if each]}
    found = Fuzzed()
    fuzz(service.url, service.token, EXAMPLES, SEED, known, found)
    assert not found.wrong, "\n".join(found.wrong[:10])
    assert found.count > 150
    assert found.answers[200] > 30
