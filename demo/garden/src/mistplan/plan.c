#include "plan.h"
#include "stages.h"
#include <dewcalc.h>
#include <string.h>

double mist_minutes(const char *stage, const struct reading *r)
{
	const double minutes_per_kilopascal = 12;
	for (const struct spore *s = stages; s->name; s++) {
		if (strcmp(s->name, stage))
			continue;
		double lacking = dewcalc_deficit(r->temperature, r->humidity) - dewcalc_deficit(r->temperature, s->value);
		return lacking > 0 ? lacking * minutes_per_kilopascal : 0;
	}
	return -1;
}
