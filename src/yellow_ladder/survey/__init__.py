"""The survey: what is there now. It reads, and changes nothing."""

from yellow_ladder.survey.records import AddOn, FileClasses, Survey, Witness
from yellow_ladder.survey.take import take_survey

__all__ = ["AddOn", "FileClasses", "Survey", "Witness", "take_survey"]
