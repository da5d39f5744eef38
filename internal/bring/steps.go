package bring

// Recording a browser, in our own words: what the menus are called differs by version, what to do does not.

// Engine is a family of browsers that is operated in the same way.
type Engine struct {
	Name  string
	Steps []string
}

// Engines lists the three that are in use.
var Engines = []Engine{
	{"Chromium and browsers built on it", []string{
		"Open the page before the one with the error. Press F12 and choose Network.",
		"Tick Preserve log, so that the list survives page changes. Empty the list.",
		"Reproduce the error, and wait until nothing loads any more.",
		"Save the list with the download arrow of the Network bar: choose the form with sensitive data, or the answers lack their cookies.",
		"Choose Console, right-click its text, and save it as a file too.",
	}},
	{"Firefox", []string{
		"Open the page before the one with the error. Press F12 and choose Network.",
		"In the gear menu tick Persist Logs, so that the list survives page changes. Empty the list.",
		"Reproduce the error, and wait until nothing loads any more.",
		"Right-click a request and choose Save All As HAR.",
		"Choose Console, right-click a message, and save all messages to a file too.",
	}},
	{"Safari and other browsers on WebKit", []string{
		"In the settings, under Advanced, show the features for web developers. Then choose Develop, Show Web Inspector, Network.",
		"Tick Preserve Log, so that the list survives page changes. Empty the list.",
		"Reproduce the error, and wait until nothing loads any more.",
		"Choose Export at the top right of the list.",
		"Choose Console, mark all messages, and save the selection as a file too.",
	}},
}
