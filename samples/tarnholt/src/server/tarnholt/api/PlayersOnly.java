package tarnholt.api;

import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;

/** By this an author marks code that only a player's game may start. */
@Retention(RetentionPolicy.RUNTIME)
public @interface PlayersOnly {}
