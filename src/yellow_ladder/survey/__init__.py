"""The survey: what is there now. It reads, and changes nothing. A module for each kind of thing that is looked at."""

from yellow_ladder.survey.drift.classes import FileClasses
from yellow_ladder.survey.records import AddOn, ProbeAnswer, Survey
from yellow_ladder.survey.take import Depth, take_survey

__all__ = ["AddOn", "Depth", "FileClasses", "ProbeAnswer", "Survey", "take_survey"]
