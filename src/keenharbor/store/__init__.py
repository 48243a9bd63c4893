"""Where snapshots are kept: content-addressed objects in packs, and named documents beside them."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.store.packs import Damage, ObjectId, ObjectSource, PackWriter, object_id
    from keenharbor.store.store import Store
    from keenharbor.store.writer import ObjectWriter
else:
    __getattr__ = offered(
        __name__,
        {
            "packs": "Damage ObjectId ObjectSource PackWriter object_id",
            "store": "Store",
            "writer": "ObjectWriter",
        },
    )

__all__ = ["Damage", "ObjectId", "ObjectSource", "ObjectWriter", "PackWriter", "Store", "object_id"]
