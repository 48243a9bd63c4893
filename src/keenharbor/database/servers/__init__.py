"""Private servers, a recipe an engine."""

from keenharbor.database.servers.mariadb import MariadbRecipe
from keenharbor.database.servers.postgres import PostgresRecipe
from keenharbor.database.servers.recipe import Folders, ServerRecipe

RECIPES: dict[str, ServerRecipe] = {"mariadb": MariadbRecipe(), "postgres": PostgresRecipe()}

__all__ = ["RECIPES", "Folders", "ServerRecipe"]
