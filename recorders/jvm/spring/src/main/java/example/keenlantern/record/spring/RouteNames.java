package example.keenlantern.record.spring;

import example.keenlantern.record.Recorder;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import org.springframework.web.servlet.HandlerInterceptor;
import org.springframework.web.servlet.config.annotation.InterceptorRegistry;
import org.springframework.web.servlet.config.annotation.WebMvcConfigurer;

/** Names the scopes of requests as soon as their route is known. */
final class RouteNames implements WebMvcConfigurer, HandlerInterceptor {
    private final Recorder recorder;

    RouteNames(Recorder recorder) {
        this.recorder = recorder;
    }

    @Override
    public void addInterceptors(InterceptorRegistry registry) {
        registry.addInterceptor(this).order(Integer.MIN_VALUE);
    }

    @Override
    public boolean preHandle(HttpServletRequest request, HttpServletResponse response, Object handler) {
        if (recorder.on()) RequestScopes.name(request);
        return true;
    }
}
