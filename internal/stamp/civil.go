package stamp

// civilDays gives the days since 1970-01-01 of a day of the Gregorian calendar. The method is Howard Hinnant's
// "chrono-Compatible Low-Level Date Algorithms".
func civilDays(y, m, d int) int {
	if m <= 2 {
		y--
	}
	era := y / 400
	yoe := y - era*400
	mp := (m + 9) % 12
	doy := (153*mp+2)/5 + d - 1
	doe := yoe*365 + yoe/4 - yoe/100 + doy
	return era*146097 + doe - 719468
}

// fromCivilDays is the way back.
func fromCivilDays(z int) (y, m, d int) {
	z += 719468
	era := z / 146097
	doe := z - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	d = doy - (153*mp+2)/5 + 1
	m = mp + 3
	if m > 12 {
		m -= 12
	}
	y = yoe + era*400
	if m <= 2 {
		y++
	}
	return y, m, d
}

// weekday gives the day of the week, Monday 0, of days since 1970-01-01 (a Thursday).
func weekday(days int) int { return ((days+3)%7 + 7) % 7 }
