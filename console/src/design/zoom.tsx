/** A part of a period: chosen below a chart, kept in the address, and the same for every chart of a page. */
import {Label, Slider, SliderOutput, SliderThumb, SliderTrack} from 'react-aria-components';
import {useSearchParams} from 'react-router';
import styled from 'styled-components';
import {Button} from './Button';
import {day} from './format';
import {colour, space} from './tokens';

const Root = styled(Slider)`
  display: grid;
  grid-template-columns: auto minmax(120px, 1fr) auto;
  gap: 0 ${space.m};
  align-items: center;
  margin-top: ${space.s};
  font-size: 12px;
  .react-aria-Label {
    color: ${colour('soft')};
  }
  .react-aria-SliderTrack {
    height: 24px;
    position: relative;
    margin: 0 8px;
    &::before {
      content: '';
      position: absolute;
      top: 11px;
      width: 100%;
      height: 2px;
      background: ${colour('line')};
    }
  }
  .react-aria-SliderThumb {
    top: 12px;
    width: 10px;
    height: 18px;
    border-radius: 2px;
    background: ${colour('sheet')};
    border: 2px solid ${colour('soft')};
    cursor: ew-resize;
    &[data-focus-visible] {
      outline: 2px solid ${colour('rust')};
    }
    &[data-dragging] {
      border-color: ${colour('rust')};
    }
  }
  @media print {
    display: none;
  }
`;
const Line = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 0 ${space.m};
  align-items: end;
  > :first-child {
    flex: 1;
    min-width: 240px;
  }
  @media print {
    display: none;
  }
`;
const FEWEST = 8; // days; fewer need no zoom

export interface Zoom {
  /** The whole period, ISO days in order. */
  days: string[];
  first: string;
  last: string;
  isPart: boolean;
  /** Whether a day is in the part that is shown. */
  shows: (day: string) => boolean;
  set: (first: string, last: string) => void;
}

/** The part of a period that the address names (`zoom=2026-11-01..2026-11-20`); all of it where it names none. */
export function useZoom(days: string[]): Zoom {
  const [search, setSearch] = useSearchParams();
  const [from = '', to = ''] = (search.get('zoom') ?? '').split('..');
  const [begin, end] = [days[0] ?? '', days.at(-1) ?? ''];
  const isPart = from < to && from <= end && to >= begin && (from > begin || to < end);
  const [first, last] = isPart ? [from > begin ? from : begin, to < end ? to : end] : [begin, end];
  return {
    days,
    first,
    last,
    isPart,
    shows: (each) => each >= first && each <= last,
    set: (newFirst, newLast) =>
      setSearch(
        (now) => {
          const next = new URLSearchParams(now);
          if (newFirst <= begin && newLast >= end) next.delete('zoom');
          else next.set('zoom', `${newFirst}..${newLast}`);
          return next;
        },
        {replace: true},
      ),
  };
}

/** Two handles under a chart: the first and the last day that it shows. */
export function ZoomBar({zoom, of}: {zoom: Zoom; of: string}) {
  const {days} = zoom;
  if (days.length < FEWEST) return null;
  const at = (each: string) => Math.max(0, days.indexOf(each));
  return (
    <Line>
      <Root
        value={[at(zoom.first), at(zoom.last)]}
        minValue={0}
        maxValue={days.length - 1}
        onChange={(value) => {
          const [from, to] = value as number[];
          if (to! > from!) zoom.set(days[from!]!, days[to!]!);
        }}
      >
        <Label>Zoom</Label>
        <SliderTrack>
          <SliderThumb index={0} aria-label={`${of}: first day shown`} />
          <SliderThumb index={1} aria-label={`${of}: last day shown`} />
        </SliderTrack>
        <SliderOutput>
          {day(zoom.first)} to {day(zoom.last)}
        </SliderOutput>
      </Root>
      {zoom.isPart && (
        <Button tone="link" needs="viewer" onPress={() => zoom.set(days[0]!, days.at(-1)!)}>
          Whole period
        </Button>
      )}
    </Line>
  );
}
