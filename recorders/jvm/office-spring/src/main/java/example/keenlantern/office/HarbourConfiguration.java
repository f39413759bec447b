package example.keenlantern.office;

import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Import;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Primary;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.messaging.support.ExecutorSubscribableChannel;
import org.springframework.scheduling.annotation.EnableAsync;

/** What the office is made of. Each mistake is a profile. */
@Configuration(proxyBeanMethods = false)
@Import(ClockConfiguration.class)
@EnableAsync
class HarbourConfiguration {
    @Bean
    GaugeLines gaugeLines() {
        return new GaugeLines();
    }

    @Bean
    @Scope("request")
    TideSource gaugeTides(GaugeLines lines, HarbourClock clock) {
        return new GaugeTides(lines, clock);
    }

    @Bean
    @Primary
    @Scope("request")
    TideSource auditedTides(@Qualifier("gaugeTides") TideSource inner) {
        return new AuditedTides(inner);
    }

    @Bean
    @Profile("!model-rebuilt")
    TideModel tideModel() {
        return new TideModel();
    }

    // It was moved to what each request has of its own, "to have the tides in one place".
    @Bean("tideModel")
    @Scope("request")
    @Profile("model-rebuilt")
    TideModel tideModelOfARequest() {
        return new TideModel();
    }

    @Bean
    @Lazy
    @Profile("!roster-keeps-tides")
    PilotRoster pilotRoster() {
        return new PilotRoster(null);
    }

    // It took the tides "to know them at once": those of the first request that asked.
    @Bean("pilotRoster")
    @Lazy
    @Profile("roster-keeps-tides")
    PilotRoster pilotRosterWithTides(TideSource tides) {
        return new PilotRoster(tides);
    }

    @Bean
    @Scope("request")
    @Profile("!log-never-closed")
    LogPage logPage() {
        return new PaperPage();
    }

    // Pages that were closed too early once were "fixed" like this.
    @Bean(name = "logPage", destroyMethod = "")
    @Scope("request")
    @Profile("log-never-closed")
    LogPage openLogPage() {
        return new PaperPage();
    }

    @Bean
    @Qualifier("outer-bar")
    @Profile("!stand-in-weather")
    WeatherReport outerBarWeather(HarbourClock clock) {
        return new BuoyWeather(clock);
    }

    // "Only until the buoy is back".
    @Bean("outerBarWeather")
    @Qualifier("outer-bar")
    @Profile("stand-in-weather")
    WeatherReport weatherUntilTheBuoyIsBack() {
        return new FakeWeather();
    }

    @Bean
    @Qualifier("lock-gate")
    WeatherReport lockGateWeather(HarbourClock clock) {
        return new MastWeather(clock);
    }

    @Bean
    @Scope("request")
    @Profile("!gauge-read-direct")
    BerthPlanner berthPlanner(TideSource tides, TideModel model) {
        return new BerthPlanner(tides, model);
    }

    // It wants "the real water", and bypasses what audits it.
    @Bean("berthPlanner")
    @Scope("request")
    @Profile("gauge-read-direct")
    BerthPlanner berthPlannerAtTheGauge(@Qualifier("gaugeTides") TideSource tides, TideModel model) {
        return new BerthPlanner(tides, model);
    }

    @Bean
    ExecutorSubscribableChannel radio() {
        return new ExecutorSubscribableChannel();
    }

    @Bean
    @Profile("!station-misspelt")
    RadioDesk radioDesk(
            ExecutorSubscribableChannel radio, @Qualifier("outer-bar") ObjectProvider<WeatherReport> weather) {
        RadioDesk desk = new RadioDesk(weather);
        radio.subscribe(desk);
        return desk;
    }

    // The chart writes it in one word.
    @Bean("radioDesk")
    @Profile("station-misspelt")
    RadioDesk misspeltRadioDesk(
            ExecutorSubscribableChannel radio, @Qualifier("outerbar") ObjectProvider<WeatherReport> weather) {
        return radioDesk(radio, weather);
    }
}
