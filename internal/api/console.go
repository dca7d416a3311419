package api

import (
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// packed packs answers in JSON to the console, where a browser far away waits for them; the client's are small or packed already, and what
// is streamed, or is a picture, is left as it is.
func packed() echo.MiddlewareFunc {
	return middleware.GzipWithConfig(middleware.GzipConfig{Level: 5, MinLength: 1400, Skipper: func(c *echo.Context) bool {
		r := c.Request()
		if _, err := r.Cookie(cookie); err != nil || r.Method != http.MethodGet {
			return true
		}
		for _, end := range []string{"/news", "/file", "/thumbnail", "/archive"} {
			if strings.HasSuffix(r.URL.Path, end) {
				return true
			}
		}
		return !strings.HasPrefix(r.URL.Path, Prefix)
	}})
}
