package chartroom;

import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** A map, useful on either side and needed on neither. */
public final class Chartroom implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("chartroom", 3);
        marsh.tell("chartroom", marsh.dedicated() ? "drawing charts for those who ask" : "charts on the table");
    }
}
