"""What may be made in a database by definitions from outside, a module an engine."""

from keenharbor.database.allowed.mariadb import ALLOWED as MARIADB
from keenharbor.database.allowed.postgres import ALLOWED as POSTGRES
from keenharbor.database.allowed.sqlite import ALLOWED as SQLITE

__all__ = ["MARIADB", "POSTGRES", "SQLITE"]
