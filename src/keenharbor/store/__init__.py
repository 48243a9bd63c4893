"""Where snapshots are kept: content-addressed objects in packs, and named documents beside them."""

from keenharbor.store.packs import Damage, ObjectId, ObjectSource, PackWriter, object_id
from keenharbor.store.store import Store
from keenharbor.store.writer import ObjectWriter

__all__ = ["Damage", "ObjectId", "ObjectSource", "ObjectWriter", "PackWriter", "Store", "object_id"]
