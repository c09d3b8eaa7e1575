/* What a mention becomes when its partition gets other identifiers. */
#pragma once

#include "boot/formats/mention.h"

typedef struct {
	bool has_name_by;
	WdrIdentifierKind name_by; /* what the user asked for */
	bool keeps_forms;   /* identifiers stay the same: so do the forms, but for device paths */
	bool has_initramfs; /* the system has one: labels may become UUIDs */
} WdrNaming;

/* The text that replaces the mention's, for a partition with these identifiers. *ret
 * and *ret_note (why another form was taken; may stay NULL) are the caller's. REFUSED: the kernel
 * could not resolve what was asked for, the partition has no such identifier, or it cannot be
 * written at this place. */
bool wdr_rewrite(const WdrMention *m, const WdrIdentity *to, const WdrNaming *naming, char **ret,
	char **ret_note, GError **error) G_GNUC_WARN_UNUSED_RESULT;
/* The kernel by itself knows PARTUUID=, PARTLABEL= and device paths; the rest needs an initramfs.
 */
bool wdr_needs_initramfs(WdrIdentifierKind kind, bool is_link);
