/* A survey as text and as JSON ("wanderitas-survey/2"). */
#pragma once

#include "boot/system/survey.h"
#include "present/out.h"

void wdr_present_survey(const WdrOut *out, const WdrSurvey *s, bool only_mentions);
void wdr_present_survey_json(FILE *file, const WdrSurvey *s);
