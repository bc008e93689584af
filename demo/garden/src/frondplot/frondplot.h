/* frondplot: line plots in SVG. */
#ifndef FRONDPLOT_H
#define FRONDPLOT_H
#include <stdio.h>

/* Draws values against their place in the list, in the colour of that name. */
int frondplot_line(FILE *out, const char *title, const char *colour, const double *values, int count);
#endif
