/* The one error domain, with errno and a hint attached to each error. */
#include "base/error.h"

#include <errno.h>

static void wdr_error_private_init(WdrErrorPrivate *priv)
{
	*priv = (WdrErrorPrivate){ 0 };
}

static void wdr_error_private_copy(const WdrErrorPrivate *src, WdrErrorPrivate *dest)
{
	dest->err = src->err;
	dest->hint = g_strdup(src->hint);
}

static void wdr_error_private_clear(WdrErrorPrivate *priv)
{
	g_free(priv->hint);
}

/* GLib's macro steps back from the error by a multiple of 16 bytes, which clang cannot know. */
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wcast-align"
G_DEFINE_EXTENDED_ERROR(WdrError, wdr_error)
#pragma GCC diagnostic pop

bool wdr_error_set(GError **error, WdrErrorCode code, const char *format, ...)
{
	va_list args;

	if (!error)
		return false;
	va_start(args, format);
	*error = g_error_new_valist(WDR_ERROR, (int)code, format, args);
	va_end(args);
	return false;
}

bool wdr_error_set_errno(GError **error, int err, const char *format, ...)
{
	va_list args;

	if (!error)
		return false;
	va_start(args, format);
	g_autofree char *what = g_strdup_vprintf(format, args);
	va_end(args);
	wdr_error_set(error, err == ENOSPC || err == EDQUOT ? WDR_ERROR_NO_SPACE : WDR_ERROR_IO,
		"%s: %s", what, g_strerror(err));
	wdr_error_get_private(*error)->err = err;
	return false;
}

void wdr_error_hint(GError **error, const char *format, ...)
{
	va_list args;

	if (!error || !*error || (*error)->domain != WDR_ERROR)
		return;
	WdrErrorPrivate *priv = wdr_error_get_private(*error);
	if (priv->hint)
		return;
	va_start(args, format);
	priv->hint = g_strdup_vprintf(format, args);
	va_end(args);
}

const char *wdr_error_get_hint(const GError *error)
{
	return error && error->domain == WDR_ERROR ? wdr_error_get_private(error)->hint : NULL;
}

int wdr_error_get_errno(const GError *error)
{
	return error && error->domain == WDR_ERROR ? wdr_error_get_private(error)->err : 0;
}

bool wdr_errno_is_gone(int err)
{
	/* The last four: a folder, a socket or a device is there by now. */
	return err == ENOENT || err == ENOTDIR || err == ELOOP || err == ESTALE || err == EISDIR ||
	       err == ENXIO || err == ENODEV || err == ENOTBLK;
}
