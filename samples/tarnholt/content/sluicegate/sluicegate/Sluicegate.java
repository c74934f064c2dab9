package sluicegate;

import marshlib.Ground;
import tarnholt.api.Content;
import tarnholt.api.Marsh;
import tidetable.Tides;

/** Gates that open with the tide. */
public final class Sluicegate implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        marsh.keep("sluicegate", 8);
        marsh.tell("sluicegate", "firm ground " + Ground.firmness(3, 4) + ", next high water in "
                + Tides.minutesToHighWater(90) + " minutes");
    }
}
