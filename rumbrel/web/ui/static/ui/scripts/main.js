// Everything works without scripts, but slower.
import { startChoices } from "./choices.js";
import { startDropping } from "./dropping.js";
import { startKeyboard } from "./keyboard.js";
import { startOrdering } from "./ordering.js";
import { startTheme } from "./theme.js";

startTheme();
startChoices();
startKeyboard();
startDropping();
startOrdering();
