"""What went out, as the API shows it."""

from __future__ import annotations

from metrikon.core.deliveries.comparing import told
from metrikon.service.sent_views import DeliveryView, DiffersView
from metrikon.store.deliveries import Delivery


def delivery_view(found: Delivery) -> DeliveryView:
    """A delivery as it is shown."""
    return DeliveryView(
        key=found.key,
        run_id=found.run_id,
        path=found.path,
        target=found.target,
        kind=found.kind,
        purpose=found.purpose,
        state=found.state,
        receipt=found.receipt,
        error=found.error,
        left=list(found.left),
        differs=[DiffersView(column=each.column, there=each.there, wanted=each.wanted) for each in found.differs],
        told=told(found.differs),
        mark=", ".join(f"{column}: {value}" for column, value in (found.mark or {}).items()),
    )
