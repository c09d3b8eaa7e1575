/* The table of firmware settings that a new medium may want, and setting or removing them. */
#include "change/tune.h"

#include "boot/formats/configlines.h"
#include "volume/lookup.h"

#include <string.h>

/* What the firmware cuts off, and what an arm64 kernel takes (COMMAND_LINE_SIZE). */
enum { CONFIG_LINE_MAX = 98, ARGUMENTS_MAX = 2047 };

#define QUIRKS "usb-storage.quirks="

/* By the firmware's documentation, and the kernel's for the last. */
static const struct {
	const char *name;
	unsigned series;          /* of boards; 0: all */
	WdrConfigSetting setting; /* key NULL: an argument of the kernel */
	const char *does, *risk;
} settings[] = {
	{ "pcie", 5, { "dtparam", "pciex1", NULL },
		"switches the PCIe connector on, for adapters that do not announce themselves",
		"no known risk; the connector gives 5 W" },
	{ "pcie-gen3", 5, { "dtparam", "pciex1_gen", "3" },
		"asks for PCIe generation 3: about 800 MB/s instead of 400",
		"the connector is made for generation 2: some adapters and cables cause errors "
		"or lose the drive; check the kernel log, and remove the setting when in doubt" },
	{ "usb-current", 5, { "usb_max_current_enable", NULL, "1" },
		"lets all USB ports draw 1.6 A together instead of 0.6 A",
		"the power supply must deliver 5 A, or the board may not get enough power" },
	{ "usb-storage", 0, { NULL, NULL, NULL },
		"has the older USB storage driver take this bridge, for one that fails with uas",
		"it is slower" },
};

void wdr_tune_plan_free(WdrTunePlan *p)
{
	if (!p)
		return;
	wdr_disk_session_free(p->site);
	wdr_board_free(p->board);
	g_free(p->usb_ids);
	if (p->facts)
		g_ptr_array_unref(p->facts);
	if (p->files)
		g_ptr_array_unref(p->files);
	g_free(p);
}

/* One of the boot files, as it is and as it is to be. */
typedef struct {
	const char *file;
	char *before;
	size_t before_len;
	GBytes *after;
} Text;

static void text_clear(Text *t)
{
	g_free(t->before);
	if (t->after)
		g_bytes_unref(t->after);
}
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Text, text_clear)

static bool read_text(const WdrTunePlan *p, const char *file, Text *ret, GError **error)
{
	const WdrSystemPart *boot = p->site->system->boot;

	ret->file = file;
	ret->before =
		wdr_follow_read(boot->volume, file, WDR_BOOT_FILE_BYTES_MAX, &ret->before_len);
	if (!ret->before)
		return wdr_error_set(error, WDR_ERROR_FORMAT, "%s of partition %u cannot be read",
			file, boot->partition->number);
	ret->after = g_bytes_new(ret->before, ret->before_len);
	return true;
}

static void put_after(Text *t, GBytes *after)
{
	g_bytes_unref(t->after);
	t->after = after;
}

/* ---- an argument of the kernel ---- */

/* The bridges whose driver is chosen: "152d:0578:u,…"; NULL: none are. *ret_at is where they begin.
 */
static char *quirks_in(const char *line, size_t len, size_t *ret_at)
{
	size_t word = strlen(QUIRKS);

	for (size_t at = 0; at + word <= len; at++) {
		bool is_start = at == 0 || line[at - 1] == ' ';
		if (!is_start || strncmp(line + at, QUIRKS, word) != 0)
			continue;
		*ret_at = at + word;
		size_t end = *ret_at;
		while (end < len && line[end] != ' ')
			end++;
		return g_strndup(line + *ret_at, end - *ret_at);
	}
	return NULL;
}

static bool has_quirk(const char *quirks, const char *quirk)
{
	g_auto(GStrv) list = g_strsplit(quirks ? quirks : "", ",", -1);

	return g_strv_contains((const char *const *)list, quirk);
}

/* The first line is all that the firmware reads. */
static GBytes *with_quirk(GBytes *text, const char *quirk, bool is_on)
{
	size_t len = 0;
	const char *bytes = g_bytes_get_data(text, &len);
	const char *end = memchr(bytes, '\n', len);
	size_t line = end ? (size_t)(end - bytes) : len;
	size_t at = 0;
	g_autofree char *quirks = quirks_in(bytes, line, &at);
	GString *out = g_string_new_len(bytes, (gssize)len);

	if (has_quirk(quirks, quirk) == is_on)
		return g_string_free_to_bytes(out);
	if (!is_on) {
		g_auto(GStrv) list = g_strsplit(quirks, ",", -1);
		g_autoptr(GString) left = g_string_new(NULL);
		for (size_t i = 0; list[i]; i++) {
			if (strcmp(list[i], quirk) != 0)
				g_string_append_printf(left, "%s%s", left->len ? "," : "", list[i]);
		}
		size_t from = left->len ? at : at - strlen(QUIRKS);
		/* The blank before it goes with the word. */
		if (!left->len && from > 0)
			from--;
		g_string_erase(out, (gssize)from, (gssize)(at + strlen(quirks) - from));
		g_string_insert(out, (gssize)from, left->str);
		return g_string_free_to_bytes(out);
	}
	g_autofree char *added =
		quirks ? g_strdup_printf(",%s", quirk) : g_strdup_printf(" " QUIRKS "%s", quirk);
	while (line > 0 && !quirks && (bytes[line - 1] == ' ' || bytes[line - 1] == '\r'))
		line--;
	g_string_insert(out, (gssize)(quirks ? at + strlen(quirks) : line), added);
	return g_string_free_to_bytes(out);
}

/* ---- the settings ---- */

static bool is_named(char *const *names, const char *name)
{
	return names && g_strv_contains((const char *const *)names, name);
}

static bool check_names(char *const *names, GError **error)
{
	for (size_t k = 0; names && names[k]; k++) {
		bool is_known = false;
		for (size_t i = 0; i < G_N_ELEMENTS(settings); i++)
			is_known |= strcmp(settings[i].name, names[k]) == 0;
		if (!is_known)
			return wdr_error_set(error, WDR_ERROR_USAGE,
				"there is no setting '%s': they are pcie, pcie-gen3, usb-current and "
				"usb-storage",
				names[k]);
	}
	return true;
}

/* Whether it makes sense here; of an image nobody knows the board, and all do. */
static bool is_for(const WdrTunePlan *p, size_t i)
{
	return settings[i].series == 0 || !p->board || p->board->series == settings[i].series;
}

static void tell(WdrTunePlan *p, size_t i, const char *state, const char *where)
{
	const char *name = settings[i].name;

	wdr_facts_add(
		p->facts, name, false, "%s%s%s", state, where ? ": " : "", where ? where : "");
	wdr_facts_add(p->facts, name, false, "%s", settings[i].does);
	wdr_facts_add(p->facts, name, true, "risk: %s", settings[i].risk);
}

static void plan_config(WdrTunePlan *p, size_t i, const WdrTuneOptions *o, Text *config)
{
	static const char *const states[] = { "off", "on for some boards", "on" };
	const char *const *board = p->board ? p->board->filters : NULL;
	unsigned line = 0;
	WdrSettingState state = wdr_config_state(
		config->before, config->before_len, board, &settings[i].setting, &line);
	g_autofree char *where = line ? g_strdup_printf("config.txt:%u", line) : NULL;

	tell(p, i, states[state], where);
	bool is_set = is_named(o->set, settings[i].name);
	if (!is_set && !is_named(o->unset, settings[i].name))
		return;
	size_t len = 0;
	const char *now = g_bytes_get_data(config->after, &len);
	put_after(config, wdr_config_set(now, len, board, &settings[i].setting, is_set));
}

static bool plan_quirk(
	WdrTunePlan *p, size_t i, const WdrTuneOptions *o, Text *arguments, GError **error)
{
	bool is_set = is_named(o->set, settings[i].name);
	bool is_asked = is_set || is_named(o->unset, settings[i].name);
	size_t at = 0;

	if (!p->usb_ids)
		return !is_asked ||
		       wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			       "usb-storage is about the bridge of a USB disk: name that with --for");
	g_autofree char *quirk = g_strdup_printf("%s:u", p->usb_ids);
	g_autofree char *quirks =
		quirks_in(arguments->before, strcspn(arguments->before, "\n"), &at);
	g_autofree char *where = g_strdup_printf(QUIRKS "%s in cmdline.txt", quirk);
	tell(p, i, has_quirk(quirks, quirk) ? "on" : "off", where);
	if (is_asked)
		put_after(arguments, with_quirk(arguments->after, quirk, is_set));
	return true;
}

/* No line may become longer than what is read of it. */
static bool check_length(const Text *t, size_t most, GError **error)
{
	size_t len = 0;
	const char *text = g_bytes_get_data(t->after, &len);

	for (size_t at = 0; at < len;) {
		const char *end = memchr(text + at, '\n', len - at);
		size_t line = end ? (size_t)(end - text) - at : len - at;
		if (line > most && !memmem(t->before, t->before_len, text + at, line))
			return wdr_error_set(error, WDR_ERROR_REFUSED,
				"%s: a line would become longer than the %zu characters that are "
				"read of it",
				t->file, most);
		at += line + 1;
	}
	return true;
}

static void plan_file(WdrTunePlan *p, const Text *t)
{
	size_t len = 0;
	const char *after = g_bytes_get_data(t->after, &len);

	if (len != t->before_len || memcmp(after, t->before, len) != 0)
		wdr_file_plans_add(p->files, p->site->system->boot->partition->number, t->file,
			t->before, t->before_len, t->after);
}

static bool plan_all(WdrTunePlan *p, const WdrTuneOptions *o, GError **error)
{
	g_auto(Text) config = { 0 };
	g_auto(Text) arguments = { 0 };

	if (!read_text(p, "config.txt", &config, error) ||
		!read_text(p, "cmdline.txt", &arguments, error))
		return false;
	for (size_t i = 0; i < G_N_ELEMENTS(settings); i++) {
		bool is_asked =
			is_named(o->set, settings[i].name) || is_named(o->unset, settings[i].name);
		if (!is_for(p, i) && is_asked)
			return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
				"%s is for boards of the %u series, and this is one of the %u series",
				settings[i].name, settings[i].series, p->board->series);
		if (is_for(p, i) && settings[i].setting.key)
			plan_config(p, i, o, &config);
		else if (is_for(p, i) && !plan_quirk(p, i, o, &arguments, error))
			return false;
	}
	if (!check_length(&config, CONFIG_LINE_MAX, error) ||
		!check_length(&arguments, ARGUMENTS_MAX, error))
		return false;
	plan_file(p, &config);
	plan_file(p, &arguments);
	return true;
}

bool wdr_tune_plan(
	const WdrWorld *world, const WdrTuneOptions *options, WdrTunePlan **ret, GError **error)
{
	g_autoptr(WdrTunePlan) p = g_new0(WdrTunePlan, 1);
	g_autoptr(WdrDisk) target = NULL;

	p->facts = wdr_facts_new();
	p->files = wdr_file_plans_new();
	if (!check_names(options->set, error) || !check_names(options->unset, error) ||
		!wdr_disk_session_find(world, options->on, &p->site, error) ||
		(options->target && !wdr_disk_find(world, options->target, &target, error)))
		return false;
	const WdrDisk *disk = target ? target : p->site->disk;
	const WdrSystem *s = p->site->system;
	if (g_strcmp0(s->flow, "firmware") != 0 || !s->boot || !s->boot->volume)
		return wdr_error_set(error, WDR_ERROR_UNSUPPORTED,
			"%s has no config.txt: its board has none of these settings",
			p->site->disk->name);
	p->board = p->site->disk->is_image ? NULL : wdr_board_look(world);
	p->usb_ids = disk->is_image ? NULL : wdr_disk_usb_ids(world, disk);
	if (!plan_all(p, options, error))
		return false;
	*ret = g_steal_pointer(&p);
	return true;
}
