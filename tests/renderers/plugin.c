/* A plug-in of the CLAP standard for tests: a gain, which can be told to be late, to crash, to hang, or to lose a number. The
   declarations are those of the host, written into `abi.h` by the test, so that one error in both would not be seen; the
   sizes and orders are held by plug-ins of Debian's packages. */
#include <math.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define clap_entry clap_entry_declared
#include "abi.h"
#undef clap_entry

enum { GAIN, FAULT, PARAMETERS };
enum { NONE, CRASH, HANG, NOT_A_NUMBER, SAY_FAILED, BY_BLOCK };
typedef struct { double value[PARAMETERS]; uint32_t late, at; float *line[2]; const clap_host_t *host; } state_t;

static state_t *of(const clap_plugin_t *plugin) { return plugin->plugin_data; }

static bool init(const clap_plugin_t *plugin) {
    const clap_host_log_t *log = of(plugin)->host->get_extension(of(plugin)->host, "clap.log");
    if (log) log->log(of(plugin)->host, 1, "hello from the plug-in");
    return true;
}
static void destroy(const clap_plugin_t *plugin) { abort(); }
static bool activate(const clap_plugin_t *plugin, double rate, uint32_t least, uint32_t most) {
    of(plugin)->late = strstr(plugin->desc->id, "late") ? 64 : 0;
    for (int c = 0; c < 2; c++) of(plugin)->line[c] = calloc(64, sizeof(float));
    return rate < 400000;
}
static void nothing(const clap_plugin_t *plugin) {}
static bool start(const clap_plugin_t *plugin) {
    const clap_host_thread_check_t *check = of(plugin)->host->get_extension(of(plugin)->host, "clap.thread-check");
    return check && check->is_audio_thread(of(plugin)->host) && !check->is_main_thread(of(plugin)->host);
}
static int32_t process(const clap_plugin_t *plugin, const clap_process_t *p) {
    state_t *s = of(plugin);
    for (uint32_t i = 0; i < p->in_events->size(p->in_events); i++) {
        const clap_event_param_value_t *e = (const void *)p->in_events->get(p->in_events, i);
        if (e->header.type == 5 && e->header.space_id == 0 && e->param_id < 1000 + PARAMETERS)
            s->value[e->param_id - 1000] = e->value;
    }
    int fault = (int)s->value[FAULT];
    if (fault == CRASH) *(volatile int *)0 = 1;
    if (fault == HANG) for (;;) ;
    if (fault == SAY_FAILED) return 0;
    float gain = powf(10.0f, (float)s->value[GAIN] / 20.0f);
    if (fault == BY_BLOCK) gain *= 1.0f / p->frames_count;
    for (uint32_t c = 0; c < p->audio_inputs[0].channel_count; c++)
        for (uint32_t i = 0, at = s->at; i < p->frames_count; i++) {
            float sample = p->audio_inputs[0].data32[c][i] * gain;
            if (fault == NOT_A_NUMBER) sample = NAN;
            if (s->late) {
                float old = s->line[c][at];
                s->line[c][at] = sample;
                sample = old;
                at = (at + 1) % s->late;
                if (c + 1 == p->audio_inputs[0].channel_count) s->at = at;
            }
            p->audio_outputs[0].data32[c][i] = sample;
        }
    return 1;
}

static uint32_t param_count(const clap_plugin_t *plugin) { return PARAMETERS; }
static bool param_info(const clap_plugin_t *plugin, uint32_t index, clap_param_info_t *info) {
    memset(info, 0, sizeof *info);
    info->id = 1000 + index;
    strcpy(info->name, index == GAIN ? "Gain" : "Fault");
    info->flags = index == FAULT ? 1 : 0;
    info->min_value = index == GAIN ? -60 : 0;
    info->max_value = index == GAIN ? 12 : BY_BLOCK;
    return true;
}
static bool param_value(const clap_plugin_t *plugin, uint32_t id, double *value) {
    *value = of(plugin)->value[id - 1000];
    return true;
}
static bool to_text(const clap_plugin_t *plugin, uint32_t id, double value, char *text, uint32_t capacity) {
    snprintf(text, capacity, "%.1f dB", value);
    return id == 1000;
}
static bool to_value(const clap_plugin_t *plugin, uint32_t id, const char *text, double *value) {
    if (strcmp(text, "half")) return false;
    *value = -6.0205999132796239;
    return true;
}
static void flush(const clap_plugin_t *plugin, const clap_input_events_t *in, const clap_output_events_t *out) {}
static const clap_plugin_params_t params = {param_count, param_info, param_value, to_text, to_value, flush};

static uint32_t port_count(const clap_plugin_t *plugin, bool input) { return 1; }
static bool port_get(const clap_plugin_t *plugin, uint32_t index, bool input, clap_audio_port_info_t *info) {
    memset(info, 0, sizeof *info);
    info->channel_count = strstr(plugin->desc->id, "mono") ? 1 : 2;
    return true;
}
static const clap_plugin_audio_ports_t ports = {port_count, port_get};
static uint32_t latency_get(const clap_plugin_t *plugin) { return of(plugin)->late; }
static const clap_plugin_number_t latency = {latency_get};
static bool save(const clap_plugin_t *plugin, const clap_ostream_t *stream) {
    return stream->write(stream, of(plugin)->value, sizeof of(plugin)->value) == sizeof of(plugin)->value;
}
static bool load(const clap_plugin_t *plugin, const clap_istream_t *stream) {
    double read[PARAMETERS];
    char *at = (char *)read;
    for (int64_t got; at < (char *)(read + PARAMETERS); at += got)  /* in pieces, as streams are read */
        if ((got = stream->read(stream, at, 5 < (char *)(read + PARAMETERS) - at ? 5 : (char *)(read + PARAMETERS) - at)) <= 0)
            return false;
    memcpy(of(plugin)->value, read, sizeof read);
    return true;
}
static const clap_plugin_state_t state = {save, load};
static const void *extension(const clap_plugin_t *plugin, const char *id) {
    if (!strcmp(id, "clap.params")) return &params;
    if (!strcmp(id, "clap.audio-ports")) return &ports;
    if (!strcmp(id, "clap.latency")) return &latency;
    if (!strcmp(id, "clap.state")) return &state;
    return NULL;
}

static const char *features[] = {"audio-effect", NULL};
static const clap_plugin_descriptor_t about[] = {
    {{1, 1, 10}, "test.gain", "Gain", "Tests", "", "", "", "2.1.0", "", features},
    {{1, 1, 10}, "test.late", "Late gain", "Tests", "", "", "", "2.1.0", "", features},
    {{1, 1, 10}, "test.mono", "Mono gain", "Tests", "", "", "", "2.1.0", "", features},
};
static uint32_t count(const clap_plugin_factory_t *factory) { return 3; }
static const clap_plugin_descriptor_t *describe(const clap_plugin_factory_t *factory, uint32_t i) { return &about[i]; }
static const clap_plugin_t *create(const clap_plugin_factory_t *factory, const clap_host_t *host, const char *id) {
    for (int i = 0; i < 3; i++)
        if (!strcmp(id, about[i].id)) {
            clap_plugin_t *made = calloc(1, sizeof *made);
            state_t *own = calloc(1, sizeof *own);
            own->host = host;
            *made = (clap_plugin_t){&about[i], own, init, destroy, activate, nothing, start, nothing, nothing, process,
                                    extension, nothing};
            printf("a plug-in prints to the terminal\n");
            return made;
        }
    return NULL;
}
static const clap_plugin_factory_t factory = {count, describe, create};
static bool entry_init(const char *path) { return true; }
static void entry_deinit(void) {}
static const void *get_factory(const char *id) { return strcmp(id, "clap.plugin-factory") ? NULL : &factory; }
__attribute__((visibility("default"))) const clap_plugin_entry_t clap_entry = {
    {1, 1, 10}, entry_init, entry_deinit, get_factory};
