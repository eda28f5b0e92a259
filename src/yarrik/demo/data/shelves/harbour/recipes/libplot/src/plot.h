/* Charts of a row of figures. */
#ifndef PLOT_H
#define PLOT_H

/* Draws the figures as a line into a file; its form follows from the name's end, .png or .svg.
   Returns 0; -1 when it could not be written; -2 for a form that this library was built without. */
int plot_write(const char *path, const double *figures, int count);

#endif
