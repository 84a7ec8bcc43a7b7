import { Labels, visible } from './Foreign'

/** Name is the name of a device, or of a slot as DEVICE/SLOT. */
export function Name({ of }: { of: string }) {
  return (
    <bdi>
      <Labels of={visible(of)} />
    </bdi>
  )
}
