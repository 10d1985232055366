package limit

import "time"

// Point is a use at a moment.
type Point struct {
	At  time.Time
	Use int64
}

// Forecast says when a use that goes on as it did will be at a bound: by the line of least squares through the points. False
// where it does not grow, is there already, or would take more than ten years.
func Forecast(points []Point, bound int64, now time.Time) (time.Time, bool) {
	if len(points) < 2 {
		return time.Time{}, false
	}
	first := points[0]
	var n, sx, sy, sxx, sxy float64
	for _, p := range points {
		x, y := p.At.Sub(first.At).Hours(), float64(p.Use)-float64(first.Use)
		n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	over := n*sxx - sx*sx
	if over <= 0 {
		return time.Time{}, false
	}
	slope := (n*sxy - sx*sy) / over // in an hour
	last := points[len(points)-1]
	left := float64(bound) - float64(last.Use)
	if slope <= 0 || left <= 0 {
		return time.Time{}, false
	}
	hours := left / slope
	if hours > mostGrace.Hours() {
		return time.Time{}, false
	}
	at := last.At.Add(time.Duration(hours * float64(time.Hour)))
	if at.Before(now) {
		at = now
	}
	return at, true
}
