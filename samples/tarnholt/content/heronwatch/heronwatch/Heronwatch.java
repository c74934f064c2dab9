package heronwatch;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Watches for players who tear down what others built; the server alone needs it. */
public final class Heronwatch implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        String quiet = marsh.config("heronwatch.properties", "watch.minutes", "15", "minutes between two looks");
        marsh.keep("heronwatch", 2);
        marsh.tell("heronwatch", "looking every " + quiet + " minutes");
    }
}
