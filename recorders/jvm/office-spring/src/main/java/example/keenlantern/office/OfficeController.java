package example.keenlantern.office;

import java.util.List;
import java.util.concurrent.CompletableFuture;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;

/** Answers requests. */
@RestController
class OfficeController {
    private final ArrivalDesk desk;
    private final ObjectProvider<PilotRoster> roster;
    private final ObjectProvider<TideSource> tides;
    private final TugDispatcher tugs;
    private final Archive archive;

    OfficeController(
            ArrivalDesk desk,
            ObjectProvider<PilotRoster> roster,
            ObjectProvider<TideSource> tides,
            TugDispatcher tugs,
            Archive archive) {
        this.desk = desk;
        this.roster = roster;
        this.tides = tides;
        this.tugs = tugs;
        this.archive = archive;
    }

    @GetMapping("/pilots")
    List<String> pilots() {
        return roster.getObject().on();
    }

    @GetMapping("/tides/{gauge}")
    double height(@PathVariable String gauge) {
        return tides.getObject().height(gauge);
    }

    @PostMapping("/arrivals")
    String arrive(@RequestParam String ship) {
        archive.file(ship);
        return desk.take(ship);
    }

    @PostMapping("/tugs")
    CompletableFuture<String> send() {
        return CompletableFuture.supplyAsync(tugs::send);
    }
}
