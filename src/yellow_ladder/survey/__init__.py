"""The survey: what is there now. It reads, and changes nothing."""

from yellow_ladder.survey.drift import FileClasses
from yellow_ladder.survey.records import AddOn, Survey, Witness
from yellow_ladder.survey.take import Depth, take_survey

__all__ = ["AddOn", "Depth", "FileClasses", "Survey", "Witness", "take_survey"]
