"""What a model is, and what that means for a preparer."""

from bolvek.analyses.survey.isolate import isolated
from bolvek.analyses.survey.judgement import Judgement, Purpose, guess_units, judge
from bolvek.analyses.survey.record import Crossing, Marks, Shell, Survey
from bolvek.analyses.survey.survey import survey
from bolvek.settings.measures import SurveySettings

__all__ = [
    "isolated",
    "Crossing",
    "Judgement",
    "Marks",
    "Purpose",
    "Shell",
    "Survey",
    "SurveySettings",
    "guess_units",
    "judge",
    "survey",
]
