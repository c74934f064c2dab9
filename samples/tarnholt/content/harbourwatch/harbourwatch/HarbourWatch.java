package harbourwatch;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Keeps an eye on who comes in. */
public final class HarbourWatch implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        String hours = marsh.config("harbourwatch.properties", "hours", "dusk to dawn", "when the watch is kept");
        marsh.tell("harbourwatch", "the watch is kept from " + hours);
    }
}
