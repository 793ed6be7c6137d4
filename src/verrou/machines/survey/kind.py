"""Survey files as a kind of machine. What opens them is imported when one is opened, for a quick start."""

from collections.abc import Callable

from verrou.machines.kind import Kind
from verrou.machines.protocol import Machine


class SurveyKind(Kind):
    """Files that ``verrou survey --save`` wrote."""

    name = "survey"
    suffix = ".survey.json"
    addresses = f"NAME{suffix}"
    takes_long = False

    def open(self, address: str) -> Machine:
        from verrou.machines.survey.machine import SurveyFile

        return SurveyFile(address)

    def opener(self) -> Callable[[str], Machine]:
        """Return what opens files that share most of their text, which is then read once."""
        from verrou.core.surveys.text import SurveyReader
        from verrou.machines.survey.machine import SurveyFile

        reader = SurveyReader()
        return lambda address: SurveyFile(address, reader)


SURVEY = SurveyKind()
