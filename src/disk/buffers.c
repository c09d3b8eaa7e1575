/* Buffers within huge pages. */
#include "disk/buffers.h"

#include <glib.h>
#include <stdbool.h>
#include <sys/mman.h>

enum { HUGE_BYTES = 2 * 1024 * 1024, BUFFERS = HUGE_BYTES / WDR_BUFFER_BYTES };

typedef struct {
	uint8_t *bytes; /* HUGE_BYTES, aligned to as much */
	bool is_used[BUFFERS];
	unsigned used;
} Huge;

static GMutex lock;
static GArray *pages; /* Huge; NULL while there are none */

/* Twice the size has an aligned half in it; the rest is given back. */
static uint8_t *map_aligned(void)
{
	uint8_t *all = mmap(NULL, (size_t)2 * HUGE_BYTES, PROT_READ | PROT_WRITE,
		MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);

	if (all == MAP_FAILED)
		g_error("out of memory");
	size_t before = HUGE_BYTES - (uintptr_t)all % HUGE_BYTES;
	uint8_t *bytes = all + before;
	munmap(all, before);
	if (before < HUGE_BYTES)
		munmap(bytes + HUGE_BYTES, HUGE_BYTES - before);
	/* A wish: kernels without huge pages refuse it. */
	(void)madvise(bytes, HUGE_BYTES, MADV_HUGEPAGE);
	return bytes;
}

/* One with a free buffer. */
static Huge *find_room(void)
{
	pages = pages ? pages : g_array_new(FALSE, TRUE, sizeof(Huge));
	for (guint i = 0; i < pages->len; i++) {
		Huge *h = &g_array_index(pages, Huge, i);
		if (h->used < BUFFERS)
			return h;
	}
	g_array_set_size(pages, pages->len + 1);
	Huge *h = &g_array_index(pages, Huge, pages->len - 1);
	h->bytes = map_aligned();
	return h;
}

uint8_t *wdr_buffer_new(void)
{
	unsigned i = 0;

	g_mutex_lock(&lock);
	Huge *h = find_room();
	while (h->is_used[i])
		i++;
	h->is_used[i] = true;
	h->used++;
	uint8_t *buffer = h->bytes + (size_t)i * WDR_BUFFER_BYTES;
	g_mutex_unlock(&lock);
	return buffer;
}

static void give_back(guint index)
{
	munmap(g_array_index(pages, Huge, index).bytes, HUGE_BYTES);
	g_array_remove_index_fast(pages, index);
	if (pages->len == 0)
		g_clear_pointer(&pages, g_array_unref);
}

void wdr_buffer_free(uint8_t *buffer)
{
	if (!buffer)
		return;
	g_mutex_lock(&lock);
	for (guint i = 0; pages && i < pages->len; i++) {
		Huge *h = &g_array_index(pages, Huge, i);
		if (buffer < h->bytes || buffer >= h->bytes + HUGE_BYTES)
			continue;
		h->is_used[(size_t)(buffer - h->bytes) / WDR_BUFFER_BYTES] = false;
		if (--h->used == 0)
			give_back(i);
		break;
	}
	g_mutex_unlock(&lock);
}

unsigned wdr_buffers_in_use(void)
{
	unsigned n = 0;

	g_mutex_lock(&lock);
	for (guint i = 0; pages && i < pages->len; i++)
		n += g_array_index(pages, Huge, i).used;
	g_mutex_unlock(&lock);
	return n;
}
