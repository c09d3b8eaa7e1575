/* The names of the folder that holds the state of moves and changes, and of the files in it. */
#pragma once

/* Where this machine's moves and changes keep their state, each in a folder of its own. */
#define WDR_STATE_FOLDER "/var/lib/wanderitas"
/* Folders in it that tell of the move which this system came by: nothing to go on with. */
#define WDR_ARRIVAL_PREFIX "arrival-"

/* Files of a state folder, and of the records on the new root, beside itinerary.json and
 * logbook.jsonl: the checks before the move, the rehearsal after it, and those after the restart,
 * as the commands print them with --json. */
#define WDR_READY_FILE "ready.json"
#define WDR_REHEARSAL_FILE "rehearsal.json"
#define WDR_ARRIVAL_FILE "arrival.json"
/* In the folder of all of them: what the last 'ready' found, whatever move it was for. */
#define WDR_LAST_READY_FILE "last-ready.json"
