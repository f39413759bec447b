package example.keenlantern.record.spring;

import jakarta.servlet.DispatcherType;
import jakarta.servlet.Filter;
import org.springframework.beans.factory.config.BeanDefinition;
import org.springframework.boot.autoconfigure.AutoConfiguration;
import org.springframework.boot.autoconfigure.condition.ConditionalOnBean;
import org.springframework.boot.autoconfigure.condition.ConditionalOnClass;
import org.springframework.boot.autoconfigure.condition.ConditionalOnWebApplication;
import org.springframework.boot.web.servlet.FilterRegistrationBean;
import org.springframework.boot.web.servlet.ServletListenerRegistrationBean;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Role;
import org.springframework.core.Ordered;
import org.springframework.messaging.support.InterceptableChannel;
import org.springframework.scheduling.annotation.AsyncAnnotationAdvisor;
import org.springframework.web.servlet.config.annotation.WebMvcConfigurer;

/** Has requests, scheduled and asynchronous methods and messages be scopes, in an application that is recorded. */
@AutoConfiguration
@ConditionalOnBean(SpringRecording.class)
@Role(BeanDefinition.ROLE_INFRASTRUCTURE)
class KeenLanternAutoConfiguration {
    @Configuration(proxyBeanMethods = false)
    @ConditionalOnWebApplication(type = ConditionalOnWebApplication.Type.SERVLET)
    static class Servlets {
        @Bean
        @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
        FilterRegistrationBean<Filter> keenLanternRequests(SpringRecording recording) {
            FilterRegistrationBean<Filter> filter = new FilterRegistrationBean<>(new RequestScopes(recording));
            filter.setName("keenLanternRequests");
            filter.setOrder(Ordered.HIGHEST_PRECEDENCE);
            filter.setAsyncSupported(true);
            filter.setDispatcherTypes(DispatcherType.REQUEST, DispatcherType.ASYNC, DispatcherType.ERROR);
            return filter;
        }

        @Bean
        @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
        ServletListenerRegistrationBean<RequestScopes> keenLanternSessions(
                FilterRegistrationBean<Filter> keenLanternRequests) {
            return new ServletListenerRegistrationBean<>((RequestScopes) keenLanternRequests.getFilter());
        }
    }

    @Configuration(proxyBeanMethods = false)
    @ConditionalOnWebApplication(type = ConditionalOnWebApplication.Type.SERVLET)
    @ConditionalOnClass(WebMvcConfigurer.class)
    static class Routes {
        @Bean
        @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
        RouteNames keenLanternRoutes(SpringRecording recording) {
            return new RouteNames(recording.recorder);
        }
    }

    @Configuration(proxyBeanMethods = false)
    @ConditionalOnWebApplication(type = ConditionalOnWebApplication.Type.REACTIVE)
    static class Reactive {
        Reactive() {
            System.getLogger(KeenLanternAutoConfiguration.class.getName())
                    .log(
                            System.Logger.Level.INFO,
                            "Keen Lantern records the beans of this application; requests of a reactive server are no"
                                    + " scopes in the recording");
        }
    }

    @Bean
    @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
    ScheduledWork keenLanternScheduled(SpringRecording recording) {
        return new ScheduledWork(recording.recorder);
    }

    @Configuration(proxyBeanMethods = false)
    @ConditionalOnClass(AsyncAnnotationAdvisor.class)
    static class Async {
        @Bean
        @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
        static AsyncWork keenLanternAsync(SpringRecording recording) {
            return new AsyncWork(recording);
        }
    }

    @Configuration(proxyBeanMethods = false)
    @ConditionalOnClass(InterceptableChannel.class)
    static class Messages {
        @Bean
        @Role(BeanDefinition.ROLE_INFRASTRUCTURE)
        static MessageWork keenLanternMessages(SpringRecording recording) {
            return new MessageWork(recording);
        }
    }
}
