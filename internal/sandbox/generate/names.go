package generate

// Everything here is made up. Any likeness to a real company, person or ship is
// an accident.

type berthPlan struct {
	unit, name string
	boxes      []string
}

var berths = []berthPlan{
	{"operations", "timetable", []string{"plans", "published", "drafts"}},
	{"operations", "tides", []string{"gauges", "forecasts", "models", "archive"}},
	{"operations", "telemetry", []string{"raw", "hourly", "engines"}},
	{"operations", "cameras", []string{"quay-1", "quay-2", "quay-3", "quay-4", "ramp-1", "ramp-2", "ramp-3", "deck-1",
		"deck-2", "deck-3", "deck-4", "deck-5", "mast-1", "mast-2", "gate-1", "gate-2", "gate-3", "lock-1", "lock-2",
		"pier-1", "pier-2", "pier-3", "yard-1", "yard-2"}},
	{"operations", "crew", []string{"rosters", "certificates", "watch-logs"}},
	{"commercial", "ticketing", []string{"sales", "exports", "receipts", "fares"}},
	{"commercial", "website", []string{"pages", "press-kit", "images"}},
	{"commercial", "loyalty", []string{"members", "campaigns"}},
	{"corporate", "finance", []string{"ledgers", "invoices", "closings"}},
	{"corporate", "people", []string{"handbook", "payslips"}},
	{"platform", "data", []string{"lake", "marts", "scratch"}},
	{"platform", "shared", []string{"builds", "configs", "backups"}},
}

var firstNames = []string{"ingrid", "torleif", "marit", "odd", "sunniva", "eirik", "halvor", "ragnhild", "jostein",
	"aslaug", "peder", "turid", "sindre", "borghild", "magne", "vigdis", "kjetil", "gudrun", "arvid", "solveig",
	"tormod", "hilde", "oskar", "ylva", "brage", "dagny", "einar", "frida", "gorm", "helga"}
var lastNames = []string{"vaage", "aune", "skarholt", "tangen", "brattvik", "nesheim", "lunde", "fjeldal", "hovden",
	"straumsnes", "kvitberg", "ramsvik", "oterholm", "teigland", "uvdal", "myrstad", "grindheim", "sandmo", "eikeland",
	"torsvaag"}

// teamDuties is what people of a berth's team do there, by hand.
var teamDuties = []string{
	"stow/box:find", "stow/item:find", "stow/item:read", "stow/item:put", "stow/item:replace",
	"engine/rig:find", "engine/rig:describe", "engine/errand:find", "engine/errand:describe", "engine/errand:run",
	"tables/library:find", "tables/question:ask", "tables/question:explain", "watch/board:find", "watch/board:look-at",
	"post/rack:find", "watch/bell:find", "watch/bell:muffle",
}
