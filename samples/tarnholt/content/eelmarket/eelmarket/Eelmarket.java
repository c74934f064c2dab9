package eelmarket;

import marshlib.Ground;
import tallybook.Tally;
import tarnholt.api.Content;
import tarnholt.api.Marsh;

/** A market for eels, paid in reeds. */
public final class Eelmarket implements Content {
    @Override
    public void begin(Marsh marsh) throws Exception {
        Tally tally = new Tally();
        tally.note(40);
        tally.note(2 * Ground.firmness(1, 1));
        marsh.keep("eelmarket", 8);
        marsh.tell("eelmarket", "stalls open, " + tally.owed() + " reeds owed");
    }
}
