package example.keenlantern.office;

import java.util.stream.IntStream;

/** What the water will do: a table that takes a while to work out. */
class TideModel {
    private final double[] table = IntStream.range(0, 24)
            .mapToDouble(hour -> IntStream.range(1, 12_000)
                    .mapToDouble(n -> Math.sin(hour / (double) n) / n)
                    .sum())
            .toArray();

    double at(int hour) {
        return table[hour];
    }
}
