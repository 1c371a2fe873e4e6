<script setup lang="ts">
import { NButton, NProgress } from 'naive-ui'
import { computed } from 'vue'
import { left, plural } from '../format'
import type { Work } from '../api'
import { useHandover } from '../stores/handover'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { useWork } from '../stores/work'

// The six stages of the work in their order, each with how far it is and the
// one button that moves it on.
const session = useSession()
const site = useSite()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const handover = useHandover()
const emit = defineEmits<{
  plan: []
  find: []
  match: []
  commission: []
  verify: []
  handover: []
  stop: [work: number]
  resume: [run: number]
  giveUp: [run: number]
}>()

// What is not wired yet is planned, and nothing more is expected of it.
const wired = computed(() => plan.entries.filter((e) => !e.unwired))
// What no run can set is somebody's work by hand: it is counted, since it is not done.
const hand = computed(() => wired.value.filter((e) => e.byHand && !['configured', 'verified'].includes(e.state)).length)
const total = computed(() => wired.value.length)
const n = (...states: string[]) => states.reduce((sum, s) => sum + (plan.counts[s] ?? 0), 0)
const matched = computed(() => plan.entries.filter((e) => e.device || e.hangsAs).length)
const stages = computed(
  () =>
    [
      {
        key: 'plan',
        title: 'Plan',
        text: plan.entries.length ? plural(plan.entries.length, 'entry') : 'empty',
        button: 'Import',
        ready: session.mayPlan && !!site.key,
        done: plan.entries.length > 0,
      },
      {
        key: 'find',
        title: 'Find',
        text: segment.devices.length
          ? plural(segment.devices.length, 'device')
          : segment.read || !site.key
            ? 'nothing yet'
            : '…',
        button: 'Find',
        ready: !!segment.name && session.mayCommission && !!site.key,
        done: segment.surveyed && segment.devices.length > 0,
      },
      {
        key: 'match',
        title: 'Match',
        text: `${matched.value} of ${total.value}`,
        button: plan.proposals.proposals.length ? `Review ${plan.proposals.proposals.length}` : 'Review',
        ready: session.mayCommission && total.value > 0 && segment.devices.length > 0,
        done: total.value > 0 && matched.value === total.value,
      },
      {
        key: 'commission',
        title: 'Commission',
        text: `${n('configured', 'verified')} of ${total.value}` + (hand.value ? `, ${hand.value} by hand` : ''),
        button: 'Rehearse',
        ready:
          session.mayCommission &&
          (plan.entries.some((e) => !e.byHand && ['matched', 'needs attention'].includes(e.state)) ||
            plan.entries.some((e) => e.differs?.length)),
        done: total.value > 0 && n('configured', 'verified') === total.value,
      },
      {
        key: 'verify',
        title: 'Verify',
        text: `${n('verified')} of ${total.value}`,
        button: 'Verify',
        ready:
          (session.mayCommission && n('configured', 'verified') > 0) ||
          (session.mayCommission && plan.entries.some((e) => e.checkedAt)),
        done: total.value > 0 && n('verified') === total.value,
      },
      {
        key: 'handover',
        title: 'Hand over',
        text: handover.lookout?.changed.length
          ? `${handover.lookout.changed.length} not as it was`
          : handover.handovers.length
            ? 'handed over'
            : total.value && n('verified') === total.value
              ? 'all is verified'
              : `${total.value - n('verified')} not verified`,
        button: 'Open',
        ready: total.value > 0,
        done: handover.handovers.length > 0 && !handover.lookout?.changed.length,
      },
    ] as const,
)
// The next stage is the first that is ready and not done.
const next = computed(() => stages.value.find((s) => s.ready && !s.done)?.key)
const titles = {
  find: 'Finding',
  commission: 'Commissioning',
  verify: 'Verifying',
  'hand out addresses': 'Handing out addresses',
  'make a document': 'Making a document',
}
// What is under way, or how the last work ended; how far documents are is told where they are made.
const works = computed(() => work.works.filter((w) => w.kind !== 'make a document'))
const under = computed(() => works.value.filter((w) => w.state === 'running'))
const shown = computed(() => (under.value.length ? under.value : works.value.slice(0, 1)))
// A verification counts what failed among what is done; a run counts it apart.
const percent = (w: Work) =>
  w.total ? Math.floor((100 * (w.done + (w.kind === 'commission' ? w.failed : 0))) / w.total) : 0
// One survey goes on at a time; anything else is refused only for boxes that are in hand.
const waits = (stage: string) => stage === 'find' && work.finding
</script>

<template>
  <section aria-label="Stages">
    <ol class="stages">
      <li v-for="(s, i) in stages" :key="s.key" :class="{ done: s.done, next: next === s.key }">
        <span class="title"
          ><span class="number" aria-hidden="true">{{ s.done ? '✓' : i + 1 }}</span
          >{{ s.title }}</span
        >
        <span class="faint text" :data-test="'count-' + s.key">{{ s.text }}</span>
        <NButton
          size="small"
          :type="next === s.key ? 'primary' : 'default'"
          :disabled="!s.ready || waits(s.key)"
          :data-test="'stage-' + s.key"
          @click="emit(s.key as 'plan')"
          >{{ s.button }}</NButton
        >
      </li>
    </ol>
    <div v-for="r in work.interrupted" :key="r.id" class="strip" role="alert">
      <strong>Run {{ r.id }} was cut off.</strong>
      <span v-if="r.cause">{{ r.cause }}</span>
      <span v-else>Going on looks at each device first; nothing is set twice with different values.</span>
      <NButton size="small" type="primary" data-test="resume" @click="emit('resume', r.id)">Go on</NButton>
      <NButton size="small" @click="emit('giveUp', r.id)">Give it up</NButton>
    </div>
    <div v-for="w in shown" :key="w.id" class="strip" role="status" data-test="work" :data-state="w.state">
      <strong
        >{{ titles[w.kind] }}{{ w.run && under.length > 1 ? ` (run ${w.run})` : ''
        }}{{ w.site === site.key ? '' : ' on ' + w.site }}{{ w.state === 'running' ? '' : ': ' + w.state }}</strong
      >
      <NProgress
        v-if="w.state === 'running'"
        type="line"
        :percentage="percent(w)"
        :show-indicator="false"
        :height="8"
        class="bar" />
      <span>{{ w.text }}</span>
      <span v-if="w.failed" class="bad">{{ w.failed }} failed</span>
      <span v-if="w.unsure">{{ w.unsure }} verified in part</span>
      <span v-if="w.state === 'running' && !(w.parked && w.seconds < 1)" class="faint">{{ left(w.seconds) }}</span>
      <NButton v-if="w.state === 'running'" size="tiny" @click="emit('stop', w.id)">Stop</NButton>
    </div>
  </section>
</template>

<style scoped>
.stages {
  display: grid;
  grid-template-columns: repeat(6, 1fr);
  gap: 8px;
  list-style: none;
  margin: 0;
  padding: 0;
}
.stages li {
  display: grid;
  grid-template-columns: 1fr auto;
  align-items: center;
  gap: 2px 8px;
  padding: 8px 10px;
  background: var(--card);
  border: 1px solid var(--line);
  border-radius: 4px;
  border-top: 3px solid var(--line);
}
.stages li.done {
  border-top-color: var(--ok);
}
.stages li.next {
  border-top-color: #c65a2e;
}
.title {
  font-weight: 600;
  display: flex;
  gap: 6px;
  align-items: center;
}
.number {
  color: var(--faint);
  font-weight: 400;
}
.done .number {
  color: var(--ok);
  font-weight: 700;
}
.text {
  grid-row: 2;
  font-size: 13px;
  white-space: nowrap;
}
.stages li :deep(.n-button) {
  grid-row: 1 / 3;
  grid-column: 2;
}
.strip {
  margin-top: 8px;
}
.bar {
  width: 180px;
}
.bad {
  color: var(--bad);
  font-weight: 600;
}
@media (max-width: 900px) {
  .stages {
    grid-template-columns: minmax(0, 1fr);
    gap: 4px;
  }
  .stages li {
    grid-template-columns: 8rem minmax(0, 1fr) auto;
    padding: 4px 8px;
    border-top-width: 1px;
    border-left-width: 3px;
  }
  .stages li.done {
    border-left-color: var(--ok);
    border-top-color: var(--line);
  }
  .stages li.next {
    border-left-color: #c65a2e;
    border-top-color: var(--line);
  }
  .title {
    grid-row: 1;
    grid-column: 1;
  }
  .text {
    grid-row: 1;
    grid-column: 2;
    white-space: normal;
  }
  .stages li :deep(.n-button) {
    grid-row: 1;
    grid-column: 3;
  }
}
</style>
