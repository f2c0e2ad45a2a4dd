/* Plug-ins of the CLAP standard for tests: a gain, which can be told to be late, to crash, to hang, or to lose a number; a
   clean one; and one for each fault that a check of fitness is to find. The declarations are those of the host, written into `abi.h` by the test, so that one error in both would not be seen; the
   sizes and orders are held by plug-ins of Debian's packages. */
#include <math.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#define clap_entry clap_entry_declared
#include "abi.h"
#undef clap_entry

enum { GAIN, FAULT, BYPASS, PARAMETERS };
enum { NONE, CRASH, HANG, NOT_A_NUMBER, SAY_FAILED, BY_BLOCK,
       SHARES, WRITES, FORGETS_STATE, SLOW_START, SLOW_FADE, KEEPS_PAST, HUMS, RINGS, RATE, BAD_END, RUNS_AWAY, BYPASS_OFF,
       SLOW_LOAD, WRONG_LATENCY, CLEAN };
static const char *const NAMES[] = {"", "", "", "", "", "blocks", "instances", "input", "state", "first block", "decay",
    "reset", "silence", "falls silent", "rates", "ends", "random", "bypass", "loads", "latency", "clean"};
typedef struct {
    double value[PARAMETERS]; uint32_t late, at; float *line[2]; const clap_host_t *host;
    int fault; double past[2]; unsigned long blocks;
} state_t;
static double shared;  /* by all instances, which is the fault of one of them */

static state_t *of(const clap_plugin_t *plugin) { return plugin->plugin_data; }

static bool init(const clap_plugin_t *plugin) {
    const clap_host_log_t *log = of(plugin)->host->get_extension(of(plugin)->host, "clap.log");
    if (log) log->log(of(plugin)->host, 1, "hello from the plug-in");
    return true;
}
static void destroy(const clap_plugin_t *plugin) { abort(); }
static void wait_seconds(double seconds) {
    struct timespec time = {(time_t)seconds, (long)((seconds - (time_t)seconds) * 1e9)};
    nanosleep(&time, NULL);
}
static bool activate(const clap_plugin_t *plugin, double rate, uint32_t least, uint32_t most) {
    of(plugin)->late = !of(plugin)->fault && strstr(plugin->desc->id, "late") ? 64 : 0;
    for (int c = 0; c < 2; c++) of(plugin)->line[c] = calloc(64, sizeof(float));
    if (of(plugin)->fault == SLOW_LOAD) wait_seconds(0.7);
#ifdef WRITES_TO
    FILE *file = fopen(WRITES_TO, "w");
    fprintf(stderr, file ? "it was written\n" : "it was refused\n");
    if (file) fclose(file);
#endif
    return rate < 400000 && !(of(plugin)->fault == RATE && rate > 100000);
}
static void nothing(const clap_plugin_t *plugin) {}
static void forget(const clap_plugin_t *plugin) {
    if (of(plugin)->fault != KEEPS_PAST) of(plugin)->past[0] = of(plugin)->past[1] = 0;
}
static bool start(const clap_plugin_t *plugin) {
    const clap_host_thread_check_t *check = of(plugin)->host->get_extension(of(plugin)->host, "clap.thread-check");
    return check && check->is_audio_thread(of(plugin)->host) && !check->is_main_thread(of(plugin)->host);
}
/* The gain is set at its frame; all else at the beginning of the block. */
static double gain_at(const state_t *s, const clap_process_t *p, uint32_t frame) {
    double value = s->value[GAIN];
    for (uint32_t i = 0; i < p->in_events->size(p->in_events); i++) {
        const clap_event_param_value_t *e = (const void *)p->in_events->get(p->in_events, i);
        if (e->param_id == 1000 + GAIN && e->header.time <= frame) value = e->value;
    }
    return value;
}
static int32_t process(const clap_plugin_t *plugin, const clap_process_t *p) {
    state_t *s = of(plugin);
    for (uint32_t i = 0; i < p->in_events->size(p->in_events); i++) {
        const clap_event_param_value_t *e = (const void *)p->in_events->get(p->in_events, i);
        if (e->header.type == 5 && e->header.space_id == 0 && e->param_id < 1000 + PARAMETERS &&
            (e->header.time == 0 || e->param_id != 1000 + GAIN))
            s->value[e->param_id - 1000] = e->value;
    }
    int fault = s->fault ? s->fault : (int)s->value[FAULT];
    if (fault == SLOW_START && s->blocks == 0) wait_seconds(1.2);
    if (fault == SHARES && p->in_events->size(p->in_events)) shared = s->value[GAIN];
    if (fault == SHARES) s->value[GAIN] = shared;
    s->blocks++;
    float loudest = 0;
    for (uint32_t i = 0; i < p->frames_count; i++) loudest = fmaxf(loudest, fabsf(p->audio_inputs[0].data32[0][i]));
    if (fault == SLOW_FADE && loudest == 0) wait_seconds(0.004);
    if (fault == CRASH) *(volatile int *)0 = 1;
    if (fault == HANG) for (;;) ;
    if (fault == SAY_FAILED) return 0;
    for (uint32_t c = 0; c < p->audio_inputs[0].channel_count; c++)
        for (uint32_t i = 0, at = s->at; i < p->frames_count; i++) {
            float gain = powf(10.0f, (float)gain_at(s, p, i) / 20.0f);
            if (fault == BY_BLOCK) gain *= 1.0f / p->frames_count;
            float sample = p->audio_inputs[0].data32[c][i] * gain;
            if (fault == NOT_A_NUMBER || (fault == BAD_END && s->value[GAIN] >= 12)) sample = NAN;
            if (fault == RUNS_AWAY && fabs(s->value[GAIN] + 24) < 12) sample *= 1e9f;
            if (fault == HUMS) sample += 0.001f;
            if (fault == RINGS || fault == KEEPS_PAST) {
                s->past[c] = 0.5 * p->audio_inputs[0].data32[c][i] + (fault == RINGS ? 0.9999999 : 0.9995) * s->past[c];
                sample += 0.1f * (float)s->past[c];
            }
            if (s->value[BYPASS] >= 1) sample = p->audio_inputs[0].data32[c][i] * (fault == BYPASS_OFF ? 0.999f : 1.0f);
            if (fault == WRITES) p->audio_inputs[0].data32[c][i] = 0;
            if (s->late) {
                float old = s->line[c][at];
                s->line[c][at] = sample;
                sample = old;
                at = (at + 1) % s->late;
                if (c + 1 == p->audio_inputs[0].channel_count) s->at = at;
            }
            p->audio_outputs[0].data32[c][i] = sample;
        }
    s->value[GAIN] = gain_at(s, p, p->frames_count);
    return 1;
}

static uint32_t param_count(const clap_plugin_t *plugin) { return 2; }
static bool param_info(const clap_plugin_t *plugin, uint32_t index, clap_param_info_t *info) {
    if (index == FAULT && of(plugin)->fault) index = BYPASS;
    memset(info, 0, sizeof *info);
    info->id = 1000 + index;
    strcpy(info->name, index == GAIN ? "Gain" : index == FAULT ? "Fault" : "Bypass");
    info->flags = index == GAIN ? 0 : index == FAULT ? 1 : 1 | 1 << 4;
    info->min_value = index == GAIN ? -60 : 0;
    info->max_value = index == GAIN ? 12 : index == FAULT ? BY_BLOCK : 1;
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
static uint32_t latency_get(const clap_plugin_t *plugin) {
    return of(plugin)->fault == WRONG_LATENCY ? 64 : of(plugin)->late;
}
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
    if (of(plugin)->fault != FORGETS_STATE) memcpy(of(plugin)->value, read, sizeof read);
    else of(plugin)->value[GAIN] = -3;
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
static clap_plugin_descriptor_t faulty[CLEAN + 1];
static char ids[CLEAN + 1][64], titles[CLEAN + 1][64];
#ifdef ALONE
static uint32_t count(const clap_plugin_factory_t *factory) { return 1; }
#else
static uint32_t count(const clap_plugin_factory_t *factory) { return 3 + CLEAN + 1 - BY_BLOCK; }
#endif
static const clap_plugin_descriptor_t *describe(const clap_plugin_factory_t *factory, uint32_t i) {
    if (i < 3) return &about[i];
    int fault = BY_BLOCK + (int)i - 3;
    snprintf(ids[fault], sizeof ids[fault], "fault.%s", NAMES[fault]);
    faulty[fault] = about[0];
    faulty[fault].id = ids[fault];
    snprintf(titles[fault], sizeof titles[fault], "Fault of %s", NAMES[fault]);
    faulty[fault].name = titles[fault];
    return &faulty[fault];
}
static const clap_plugin_t *create(const clap_plugin_factory_t *factory, const clap_host_t *host, const char *id) {
    for (uint32_t i = 0; i < count(factory); i++)
        if (!strcmp(id, describe(factory, i)->id)) {
            clap_plugin_t *made = calloc(1, sizeof *made);
            state_t *own = calloc(1, sizeof *own);
            own->host = host;
            own->fault = i < 3 ? NONE : BY_BLOCK + (int)i - 3;
            *made = (clap_plugin_t){describe(factory, i), own, init, destroy, activate, nothing, start, nothing, forget,
                                    process, extension, nothing};
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
