"""Doing it again: recipes kept and run, jobs started from them, copies that stay, room on the disk."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.progress import Progress
from vastgrid.base.words import size_words
from vastgrid.jobs.dropping import Drop, drop, room_of
from vastgrid.jobs.save_as_job import NewJob, keep_job
from vastgrid.lineage.graph import Role
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.recipe_dialog import RecipeDialog
from vastgrid.qt.dialogs.room_dialog import RoomDialog
from vastgrid.qt.widgets import theme
from vastgrid.recipes.capture import recipe_of
from vastgrid.recipes.recipe import SUFFIX, Recipe, read_recipe, slug, write_recipe
from vastgrid.recipes.run import Files, RunAccount, run_recipe


class Repeating:
    """What the Job menu offers of it.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job it is.
    palette : callable
        Gives the theme.
    open_job : callable
        Opens the job of a folder.
    """

    def __init__(
        self, parent: QWidget, desk: Desk, palette: Callable[[], theme.Palette], open_job: Callable[[Path], None]
    ) -> None:
        self.parent, self.desk, self.palette, self.open_job = parent, desk, palette, open_job

    def _recipes(self) -> Path:
        return Path(str(self.desk.session.settings.get("recipe_folder", self.desk.session.folder.parent)))

    def recipe(self) -> Recipe:
        """Return the steps behind the chosen cards as a recipe, or those of the whole job where none is chosen.

        Raises
        ------
        CallError
            If nothing was made.
        """
        session = self.desk.session
        given = (Role.SOURCE, Role.KEPT)
        chosen = [card for card in self.desk.selection if session.graph[card].role not in given]
        title = session.graph[chosen[0]].name if len(chosen) == 1 else session.name
        return recipe_of(session.graph, session.executor, session.sentence, title, chosen)

    def ask_keep(self) -> None:
        """Ask for a file and write the recipe of the chosen cards to it."""
        recipe = self.recipe()
        suggestion = self._recipes() / f"{slug(recipe.title)}{SUFFIX}"
        name, _ = QFileDialog.getSaveFileName(
            self.parent, f"Keep the steps behind {recipe.title} as a recipe", str(suggestion), f"Recipe (*{SUFFIX})"
        )
        if name:
            self.desk.guarded(lambda: self.keep(Path(name), recipe))

    def keep(self, path: Path, recipe: Recipe) -> None:
        """Write a recipe."""
        self.desk.session.refuse_output(path)
        write_recipe(path, recipe)
        self._remember(path.parent)
        self.desk.say(f"{path.name}: {len(recipe.steps)} steps from {len(recipe.slots)} sources")

    def _remember(self, folder: Path) -> None:
        self.desk.session.settings["recipe_folder"] = str(folder)
        self.desk.session.save()

    def ask_run(self) -> None:
        """Ask for a recipe and open what runs it."""
        name, _ = QFileDialog.getOpenFileName(
            self.parent, "Run a recipe", str(self._recipes()), f"Recipe (*{SUFFIX});;All files (*)"
        )
        if name:
            self.run_recipe(Path(name))

    def run_recipe(self, path: Path) -> None:
        """Open what runs a recipe."""
        self.desk.guarded(lambda: self.run(path).show())

    def run(self, path: Path) -> RecipeDialog:
        """Return the dialog that runs a recipe."""
        recipe = read_recipe(path)
        self._remember(path.parent)
        folder = Path(str(self.desk.session.settings.get("recipe_into", path.parent / path.stem)))
        dialog = RecipeDialog(self.parent, self.desk, recipe, self.palette(), folder)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.job_wanted.connect(lambda files: self.desk.guarded(lambda: self._ask_job(recipe, files)))
        dialog.finished.connect(lambda _: self._remember_into(dialog.folder.text()))
        return dialog

    def _remember_into(self, folder: str) -> None:
        self.desk.session.settings["recipe_into"] = folder
        self.desk.session.save()

    def _ask_job(self, recipe: Recipe, files: Files) -> None:
        suggestion = self.desk.session.folder.parent / (recipe.title or "New job")
        name, _ = QFileDialog.getSaveFileName(self.parent, "New job: name of its folder", str(suggestion))
        if name:
            self.start_job(recipe, files, Path(name))

    def start_job(self, recipe: Recipe, files: Files, folder: Path) -> None:
        """Run a recipe into a new job, and open that."""
        store = NewJob(folder)
        account = RunAccount({slot: tuple(paths) for slot, paths in files.items()}, folder)

        def work(progress: Progress) -> Path:
            try:
                graph = run_recipe(recipe, files, None, progress, account, store=store)
                keep_job(folder, folder.name, graph, f"run {recipe.title}")
            finally:
                store.unclaim()
            return folder

        self.desk.start(f"starting {folder.name}", work, self.open_job)

    # -- copies and room

    def keep_copy(self) -> None:
        """Keep a copy of the chosen card as it is."""
        chosen = [card for card in self.desk.selection if self.desk.session.graph[card].role is not Role.DELIVERY]
        if len(chosen) != 1:
            raise CallError("choose one card first: a copy of it is kept as it is now")
        copy = self.desk.session.keep_as_it_is(chosen[0])
        self.desk.session.show(copy, shown=False)
        self.desk.select([copy])
        self.desk.changed.emit()
        self.desk.say(f"{self.desk.session.graph[copy].name} stays as it is, whatever becomes of the other")

    def ask_room(self) -> RoomDialog:
        """Ask what may be dropped, with what it frees."""
        dialog = RoomDialog(self.parent, room_of(self.desk.session))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.desk.guarded(lambda: self.make_room(dialog.chosen())))
        dialog.open()
        return dialog

    def make_room(self, chosen: list[Drop]) -> None:
        """Drop it, and say what that freed."""
        freed = sum(drop(self.desk.session, what).size for what in chosen)
        self.desk.changed.emit()
        self.desk.say(f"{size_words(freed)} freed; what is wanted again can be made again (F5)")
