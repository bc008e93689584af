#include "frondplot.h"
#include "palette.h"
#include <string.h>

static double hue(const char *colour)
{
	for (const struct spore *s = palette; s->name; s++)
		if (strcmp(s->name, colour) == 0)
			return s->value;
	return palette[0].value;
}

int frondplot_line(FILE *out, const char *title, const char *colour, const double *values, int count)
{
	const int width = 640, height = 320, margin = 40;
	double low = values[0], high = values[0];
	for (int i = 1; i < count; i++) {
		low = values[i] < low ? values[i] : low;
		high = values[i] > high ? values[i] : high;
	}
	double span = high > low ? high - low : 1;
	fprintf(out, "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%d\" height=\"%d\">\n", width, height);
	fprintf(out, "<text x=\"%d\" y=\"24\" font-family=\"sans-serif\">%s</text>\n", margin, title);
	fprintf(out, "<polyline fill=\"none\" stroke=\"hsl(%g,60%%,40%%)\" stroke-width=\"2\" points=\"", hue(colour));
	for (int i = 0; i < count; i++)
		fprintf(out, "%.1f,%.1f ", margin + (double)i * (width - 2 * margin) / (count > 1 ? count - 1 : 1),
			height - margin - (values[i] - low) / span * (height - 2 * margin));
	fprintf(out, "\"/>\n</svg>\n");
	return ferror(out) ? -1 : 0;
}
