"""What was observed of a network: records for each table, reading, writing, changing."""

from crossthread.errors import Problem, SurveyError
from crossthread.survey.reading import read_survey
from crossthread.survey.survey import Evidence, Info, Survey
from crossthread.survey.writing import write_survey

__all__ = ["Evidence", "Info", "Problem", "Survey", "SurveyError", "read_survey", "write_survey"]
