/* The program that starts and stops the services of this machine: systemd. */
#pragma once

#include "world/world.h"

/* On a bench only its own stand-in counts: this machine's services are not those of the bench. */
bool wdr_service_manager_is_there(const WdrWorld *world);
/* And it can be asked for units of our own, too. */
bool wdr_service_manager_has_transient(const WdrWorld *world);
/* Units that a property of a unit lists, such as RequiredBy; empty where nothing is told. The
 * caller's. */
char **wdr_service_units(const WdrWorld *world, const char *unit, const char *property);
/* A property of a unit, as systemctl shows it. The caller's. */
bool wdr_service_property(const WdrWorld *world, const char *unit, const char *property, char **ret,
	GError **error) G_GNUC_WARN_UNUSED_RESULT;
