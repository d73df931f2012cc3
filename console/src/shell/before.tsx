/** The period before beside a chart's own: chosen by one control, kept in the address for all charts of a page. */
import {CheckField} from '../design/CheckField';
import {useView} from './view';

/** Whether the period before is drawn, too. */
export const useBeside = (): boolean => useView().get('beside') === 'before';

export function BesideField() {
  const view = useView();
  return (
    <CheckField
      label="Period before"
      isSelected={view.get('beside') === 'before'}
      onChange={(value) => view.set('beside', value ? 'before' : '')}
    />
  );
}
