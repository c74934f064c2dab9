package marshlib;

/** How firm the ground is at a place, from 0 (water) to 9 (stone). */
public final class Ground {
    private Ground() {}

    public static int firmness(int east, int north) {
        return Math.floorMod(east * 31 + north * 17, 10);
    }
}
