package example.keenlantern.office;

import java.util.ArrayList;
import java.util.List;

/** A page of paper. */
class PaperPage implements LogPage {
    private final List<String> lines = new ArrayList<>();

    @Override
    public void write(String line) {
        lines.add(line);
    }

    @Override
    public void close() {
        lines.clear();
    }
}
