/* Any bytes as the state of a walk: refused, or a walk that can be gone on with to its end. */
#include "copy/checkpoint.h"

#include "copy/volume_copy_priv.h"
#include "volume/memory.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	static const char type[] = "(ta(aytttu)a(ttuuay)b(aytttu)ua(aytttu))";
	g_autoptr(WdrVolume) empty =
		wdr_memory_volume_as_volume(wdr_memory_volume_new("nothing in it"));
	g_autoptr(GBytes) bytes = g_bytes_new(data, size);
	g_autoptr(GVariant) state =
		g_variant_ref_sink(g_variant_new_from_bytes(G_VARIANT_TYPE(type), bytes, FALSE));
	g_auto(WdrCheckpoint) none = { 0 };
	WdrCopy copy = { .source = empty };
	g_autoptr(WdrTreeWalk) plan = wdr_tree_walk_new(&copy, 0);
	g_autoptr(GVariant) again = NULL;

	bool is_one = wdr_checkpoint_parse("checkpoint", data, size, &none, NULL);
	g_assert(!is_one || none.walk);
	if (!wdr_tree_walk_restore(plan, state, NULL))
		return 0;
	again = wdr_tree_walk_state(plan);
	g_assert(g_variant_is_of_type(again, G_VARIANT_TYPE(type)));
	return 0;
}
