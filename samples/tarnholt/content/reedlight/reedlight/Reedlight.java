package reedlight;

import marshlib.Lamps;
import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** Lamps made of reed. */
public final class Reedlight implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        Lamps lamps = new Lamps();
        for (int i = 0; i < 12; i++) {
            lamps.light("reed-" + i, 17 + i % 3);
        }
        marsh.keep("reedlight", 6);
        marsh.tell("reedlight", lamps.count() + " reed lamps trimmed");
    }
}
