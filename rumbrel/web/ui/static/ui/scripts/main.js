// Everything works without scripts, but slower.
import { startAnnouncing } from "./announce.js";
import { startChoices } from "./choices.js";
import { startComparing } from "./comparing.js";
import { startDisc } from "./disc.js";
import { startDropping } from "./dropping.js";
import { startFocus } from "./focus.js";
import { startHearing } from "./hearing.js";
import { startKeyboard } from "./keyboard.js";
import { startNarrowing } from "./narrowing.js";
import { startOrdering } from "./ordering.js";
import { startSamples } from "./sample.js";
import { startSingleKeys } from "./singlekeys.js";
import { startTheme } from "./theme.js";

startTheme();
startSingleKeys();
startChoices();
startKeyboard();
startDropping();
startOrdering();
startAnnouncing();
startFocus();
startHearing();
startSamples();
startComparing();
startDisc();
startNarrowing();
