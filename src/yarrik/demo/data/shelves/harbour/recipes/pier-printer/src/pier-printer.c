/* Prints a row of figures on the old printers of the piers. */
#include <plot.h>
#include <stdio.h>

int main(void)
{
    double figures[512];
    int count = 0;

    while (count < 512 && scanf("%lf", &figures[count]) == 1)
        count++;
    return plot_write("/run/printer.png", figures, count) ? 1 : 0;
}
