"""Forms that add a stage, add a process and rename one."""

from typing import Any

from django import forms

from wise_tally.domain.process.models import Category, Process, Stage, StageKind
from wise_tally.web.forms.fields import LedgerForm, NameField, PercentField

STARTER, EMPTY = "starter", "empty"


class NewStageForm(LedgerForm):
    """A stage to be added; a lost one has no probability of its own. `restore` is a retired one of the same name."""

    restore: Stage | None = None
    name = NameField(label="Name")
    kind = forms.ChoiceField(
        label="Kind",
        choices=[(str(kind), str(kind)) for kind in (StageKind.OPEN, StageKind.LOST)],
        error_messages={"invalid_choice": "A stage is open or lost; a process has exactly one won stage."},
    )
    probability = PercentField(label="Probability, %", initial=5_000, help_text="of an open stage; a lost one has 0 %")
    category = forms.ChoiceField(label="Category")

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.categories = {category.key: category for category in Category.objects.order_by("rank")}
        self.offer("category", [(key, one.name) for key, one in self.categories.items()])
        # The least certain one: what nobody chose must not count as committed.
        counted = [key for key, one in self.categories.items() if one.counted]
        self.fields["category"].initial = counted[-1] if counted else None
        # A workspace that was read from a package may have none.
        self.fields["category"].required = bool(self.categories)

    def clean_category(self) -> Category | None:
        """The category itself."""
        return self.categories.get(self.cleaned_data["category"])

    def clean(self) -> dict[str, Any]:
        """An open stage needs a probability."""
        cleaned: dict[str, Any] = self.cleaned_data
        if cleaned.get("kind") == StageKind.OPEN and cleaned.get("probability", 0) is None:
            self.add_error("probability", "Enter a percentage from 0 to 100, such as 50.")
        return cleaned


class ProcessForm(LedgerForm):
    """The name of a process."""

    name = NameField(label="Name")


class NewProcessForm(ProcessForm):
    """A process to be added: from the starter, empty, or as a copy of one."""

    start = forms.ChoiceField(label="Start from")

    def __init__(self, *args: Any, processes: list[Process], **options: Any) -> None:
        super().__init__(*args, **options)
        self.processes = {process.key: process for process in processes}
        copies = [(key, f"a copy of {process.name}") for key, process in self.processes.items()]
        first = [(STARTER, "a template with four stages"), (EMPTY, "empty (won and lost only)")]
        self.offer("start", [*first, *((f"copy:{key}", words) for key, words in copies)])

    @property
    def source(self) -> Process | None:
        """The process to be copied, None for none."""
        return self.processes.get(self.cleaned_data["start"].removeprefix("copy:"))
