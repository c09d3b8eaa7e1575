/* Reads and changes firmware settings through the system's command. */
#include "boot/board/eeprom.h"

#include "base/io.h"
#include "base/record.h"
#include "base/text.h"
#include "world/ask_firmware.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define COMMAND "rpi-eeprom-config"

/* Where the command leaves what the next start takes over. */
static const char *const waiting_files[] = { "/boot/firmware/pieeprom.upd", "/boot/pieeprom.upd" };

void wdr_eeprom_settings_clear(WdrEepromSettings *s)
{
	g_clear_pointer(&s->now, g_free);
	g_clear_pointer(&s->waiting, g_free);
}

bool wdr_eeprom_is_same(const char *a, const char *b)
{
	g_autofree char *first = g_strchomp(g_strdup(a));
	g_autofree char *second = g_strchomp(g_strdup(b));

	return strcmp(first, second) == 0;
}

WdrHash wdr_eeprom_hash(const char *settings)
{
	g_autofree char *text = g_strchomp(g_strdup(settings));

	return wdr_hash(text, strlen(text));
}

/* What the command prints for a file; NULL for the argument: for what is in force. */
static char *printed(const WdrWorld *world, const char *file)
{
	const char *argv[] = { COMMAND, file, NULL };
	g_auto(WdrRun) run = { 0 };

	return wdr_world_run(world, argv, NULL, &run, NULL) && run.exit_code == 0 && *run.output
		       ? g_steal_pointer(&run.output)
		       : NULL;
}

void wdr_eeprom_read(const WdrWorld *world, WdrEepromSettings *ret)
{
	*ret = (WdrEepromSettings){ wdr_firmware_ask(world, "bootloader_config"), NULL };
	if (!ret->now)
		ret->now = printed(world, NULL);
	for (size_t i = 0; !ret->waiting && i < G_N_ELEMENTS(waiting_files); i++) {
		g_autofree char *path = wdr_world_path(world, waiting_files[i]);
		if (access(path, R_OK) == 0)
			ret->waiting = printed(world, path);
	}
	/* Some boards take it over at once. */
	if (!ret->waiting && ret->now)
		ret->waiting = printed(world, NULL);
	if (ret->waiting && ret->now && wdr_eeprom_is_same(ret->waiting, ret->now))
		g_clear_pointer(&ret->waiting, g_free);
}

bool wdr_eeprom_has_command(const WdrWorld *world)
{
	const char *argv[] = { COMMAND, "--help", NULL };
	g_auto(WdrRun) run = { 0 };

	return wdr_world_run(world, argv, NULL, &run, NULL);
}

static bool run_apply(const WdrWorld *world, const char *file, GError **error)
{
	const char *argv[] = { COMMAND, "--apply", file, NULL };
	g_auto(WdrRun) run = { 0 };

	if (!wdr_world_run(world, argv, NULL, &run, error))
		return false;
	if (run.exit_code == 0)
		return true;
	g_autofree char *said = wdr_escape(run.output);
	return wdr_error_set(
		error, WDR_ERROR_IO, COMMAND " --apply ended with %d: %s", run.exit_code, said);
}

bool wdr_eeprom_apply(
	const WdrWorld *world, const char *settings, bool *ret_is_read, GError **error)
{
	g_auto(WdrEepromSettings) before = { 0 };
	g_auto(WdrEepromSettings) after = { 0 };
	g_autofree char *folder = g_dir_make_tmp("wanderitas-XXXXXX", NULL);

	if (!folder)
		return wdr_error_set(
			error, WDR_ERROR_IO, "no folder for a scratch file can be made");
	wdr_eeprom_read(world, &before);
	g_autofree char *file = g_build_filename(folder, "bootconf.txt", NULL);
	bool is_fine = wdr_record_write(file, settings, strlen(settings), error) &&
		       run_apply(world, file, error);
	wdr_remove_folder(folder);
	if (!is_fine)
		return false;
	wdr_eeprom_read(world, &after);
	const char *next = after.waiting ? after.waiting : after.now;
	bool is_read = next && wdr_eeprom_is_same(next, settings);
	bool is_as_before = !after.waiting && !before.waiting && after.now && before.now &&
			    wdr_eeprom_is_same(after.now, before.now);
	if (ret_is_read)
		*ret_is_read = is_read;
	return is_read || is_as_before ||
	       wdr_error_set(error, WDR_ERROR_IO,
		       COMMAND " said that it took the settings, but they read back as others");
}

/* ---- lines ---- */

char *wdr_eeprom_value(const char *settings, const char *key)
{
	g_auto(GStrv) lines = g_strsplit(settings ? settings : "", "\n", -1);
	size_t len = strlen(key);
	char *found = NULL;

	for (size_t i = 0; lines[i]; i++) {
		if (strncmp(lines[i], key, len) != 0 || lines[i][len] != '=')
			continue;
		g_free(found);
		found = g_strstrip(g_strdup(lines[i] + len + 1));
	}
	return found;
}

char *wdr_eeprom_with(const char *settings, const char *key, const char *value)
{
	g_auto(GStrv) lines = g_strsplit(settings, "\n", -1);
	size_t len = strlen(key);
	char **last = NULL;
	bool is_all = true;

	for (size_t i = 0; lines[i]; i++) {
		if (*lines[i] == '[')
			is_all = g_str_has_prefix(lines[i], "[all]");
		if (strncmp(lines[i], key, len) == 0 && lines[i][len] == '=')
			last = &lines[i];
	}
	if (last) {
		g_free(*last);
		*last = g_strdup_printf("%s=%s", key, value);
		return g_strjoinv("\n", lines);
	}
	size_t text_len = strlen(settings);
	bool is_ended = text_len == 0 || settings[text_len - 1] == '\n';
	return g_strdup_printf("%s%s%s%s=%s\n", settings, is_ended ? "" : "\n",
		is_all ? "" : "[all]\n", key, value);
}
