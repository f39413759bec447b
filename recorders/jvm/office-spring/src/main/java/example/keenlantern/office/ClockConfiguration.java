package example.keenlantern.office;

import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;

/** The office's clock. */
@Configuration(proxyBeanMethods = false)
class ClockConfiguration {
    @Bean
    HarbourClock harbourClock() {
        return new HarbourClock();
    }
}
