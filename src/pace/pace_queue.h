/* Requests to a descriptor, several at a time. Private to this folder. */
#pragma once

#include "pace/pace.h"

typedef struct WdrPaceQueue WdrPaceQueue;

/* fd is borrowed. at_once 1: each is carried out when it is submitted. */
WdrPaceQueue *wdr_pace_queue_new(int fd, unsigned at_once);
void wdr_pace_queue_free(WdrPaceQueue *q);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(WdrPaceQueue, wdr_pace_queue_free)

/* The clock of real media, as WdrPaceOps.now. */
uint64_t wdr_pace_clock(void *self);
/* For a medium whose `self` is the queue. */
const WdrPaceOps *wdr_pace_queue_ops(const WdrPaceQueue *q);
