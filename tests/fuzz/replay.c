/* For compilers without libFuzzer: feeds a target with made-up inputs, mutations of the files named
 * on the command line. The seed is printed, so that what is found can be found again. */
#include <glib.h>
#include <stdint.h>
#include <stdio.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void mutate(GRand *rand, uint8_t *data, gsize *size)
{
	guint32 changes = (guint32)g_rand_int_range(rand, 1, 8);

	for (guint32 i = 0; i<changes && * size> 0; i++)
		data[g_rand_int_range(rand, 0, (gint32)*size)] = (uint8_t)g_rand_int(rand);
	if (g_rand_int_range(rand, 0, 8) == 0 && *size > 1)
		*size = (gsize)g_rand_int_range(rand, 0, (gint32)*size);
}

int main(int argc, char **argv)
{
	guint32 seed = argc > 1 ? (guint32)g_ascii_strtoull(argv[1], NULL, 10) : 1;
	g_autoptr(GRand) rand = g_rand_new_with_seed(seed);

	printf("seed %u\n", seed);
	for (int i = 2; i < argc; i++) {
		g_autofree char *text = NULL;
		gsize len = 0;
		if (!g_file_get_contents(argv[i], &text, &len, NULL))
			return 2;
		for (unsigned round = 0; round < 2000; round++) {
			g_autofree uint8_t *copy = g_malloc(len + 1);
			gsize size = len;
			for (gsize k = 0; k < len; k++)
				copy[k] = (uint8_t)text[k];
			mutate(rand, copy, &size);
			LLVMFuzzerTestOneInput(copy, size);
		}
	}
	return 0;
}
