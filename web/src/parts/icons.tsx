import { chakra, type HTMLChakraProps } from '@chakra-ui/react';

type IconProps = HTMLChakraProps<'svg'>;
const Icon = chakra('svg', { base: { boxSize: '5', flexShrink: 0, display: 'inline-block', overflow: 'visible' } });

const line = {
  fill: 'none',
  stroke: 'currentColor',
  strokeWidth: 1.8,
  strokeLinecap: 'round',
  strokeLinejoin: 'round',
} as const;

function drawn(path: string) {
  return (props: IconProps) => (
    <Icon viewBox="0 0 24 24" aria-hidden {...props}>
      <path d={path} {...line} />
    </Icon>
  );
}

export const FolderIcon = drawn(
  'M3.5 18.5V6a1.5 1.5 0 0 1 1.5-1.5h4.5l2 2.5H19A1.5 1.5 0 0 1 20.5 8.5v10A1.5 1.5 0 0 1 19 20H5a1.5 1.5 0 0 1-1.5-1.5Z',
);
export const WhyIcon = drawn(
  'M9 9a3 3 0 1 1 4.2 2.75c-.8.4-1.2.9-1.2 1.75v.7M12 17.4v.1M12 21a9 9 0 1 0 0-18 9 9 0 0 0 0 18Z',
);
export const PersonIcon = drawn(
  'M12 12a3.75 3.75 0 1 0 0-7.5A3.75 3.75 0 0 0 12 12Zm-7 8c.6-3.2 3.4-5 7-5s6.4 1.8 7 5',
);
export const PeopleIcon = drawn(
  'M9 11.5a3.25 3.25 0 1 0 0-6.5 3.25 3.25 0 0 0 0 6.5ZM3 19.5c.5-2.9 2.9-4.7 6-4.7s5.5 1.8 6 4.7M16 5.3a3.2 3.2 0 0 1 0 6M17.5 15c1.9.6 3.2 2.2 3.5 4.5',
);
export const EveryoneIcon = drawn(
  'M12 21a9 9 0 1 0 0-18 9 9 0 0 0 0 18ZM3.5 12h17M12 3c2.5 2.6 3.6 5.6 3.6 9s-1.1 6.4-3.6 9c-2.5-2.6-3.6-5.6-3.6-9S9.5 5.6 12 3Z',
);
export const SunIcon = drawn(
  'M12 16a4 4 0 1 0 0-8 4 4 0 0 0 0 8ZM12 3v2M12 19v2M3 12h2M19 12h2M5.6 5.6 7 7M17 17l1.4 1.4M5.6 18.4 7 17M17 7l1.4-1.4',
);
export const MoonIcon = drawn('M20 14.5A8.5 8.5 0 0 1 9.5 4a8.5 8.5 0 1 0 10.5 10.5Z');
export const LeaveIcon = drawn(
  'M14 4.5H6.5A1.5 1.5 0 0 0 5 6v12a1.5 1.5 0 0 0 1.5 1.5H14M10.5 12H20m-3.5-3.5L20 12l-3.5 3.5',
);
export const KeyIcon = drawn('M8 11.5a4 4 0 1 0 0 8 4 4 0 0 0 0-8ZM11 12.6 19.5 4M16 7.5l3 3M13.5 10l2 2');
export const AddIcon = drawn('M12 5v14M5 12h14');
export const RemoveIcon = drawn(
  'M5 7h14M10 11v6M14 11v6M7 7l.8 11.2A1.5 1.5 0 0 0 9.3 19.6h5.4a1.5 1.5 0 0 0 1.5-1.4L17 7M9.5 7l.4-2.1a1 1 0 0 1 1-.9h2.2a1 1 0 0 1 1 .9l.4 2.1',
);
export const CopyIcon = drawn(
  'M9 9V5.5A1.5 1.5 0 0 1 10.5 4h8A1.5 1.5 0 0 1 20 5.5v8a1.5 1.5 0 0 1-1.5 1.5H15M5.5 9h8A1.5 1.5 0 0 1 15 10.5v8a1.5 1.5 0 0 1-1.5 1.5h-8A1.5 1.5 0 0 1 4 18.5v-8A1.5 1.5 0 0 1 5.5 9Z',
);
export const HostsIcon = drawn(
  'M4.5 5h15v5.5h-15V5ZM4.5 13.5h15V19h-15v-5.5ZM8 7.75h.1M8 16.25h.1M12 7.75h4M12 16.25h4',
);
export const LimitIcon = drawn('M4 17.5a8.5 8.5 0 1 1 16 0M12 16l4.2-5.2M4 20.5h16');
export const NoticeIcon = drawn('M6 16.5V11a6 6 0 0 1 12 0v5.5l1.5 1.5h-15L6 16.5ZM10 20.5h4M12 5V3.5');
export const UpIcon = drawn('M12 19V5.5M6.5 11 12 5.5l5.5 5.5');
export const DownIcon = drawn('M12 5v13.5M6.5 13l5.5 5.5 5.5-5.5');
export const EditIcon = drawn(
  'M4.5 19.5l.9-4L16 4.9a1.5 1.5 0 0 1 2.1 0l1 1a1.5 1.5 0 0 1 0 2.1L8.5 18.6l-4 .9ZM14 7l3 3',
);
export const CutIcon = drawn('M12 4v5M12 15v5M6 12h12');

export const OverviewIcon = drawn('M4 13h7V4H4v9ZM13 20h7v-9h-7v9ZM13 8h7V4h-7v4ZM4 20h7v-4H4v4Z');
export const VolumeIcon = drawn(
  'M4.5 7c0-1.7 3.4-3 7.5-3s7.5 1.3 7.5 3-3.4 3-7.5 3-7.5-1.3-7.5-3ZM4.5 7v10c0 1.7 3.4 3 7.5 3s7.5-1.3 7.5-3V7M4.5 12c0 1.7 3.4 3 7.5 3s7.5-1.3 7.5-3',
);
export const PublishIcon = drawn('M12 15V4.5M8 8.5l4-4 4 4M5 13.5v5A1.5 1.5 0 0 0 6.5 20h11a1.5 1.5 0 0 0 1.5-1.5v-5');
export const GroupIcon = drawn(
  'M12 4.5v5M12 9.5H6v4M12 9.5h6v4M4 13.5h4v5H4v-5ZM16 13.5h4v5h-4v-5ZM10 13.5h4v5h-4v-5ZM12 9.5v4',
);
export const SettingsIcon = drawn(
  'M4 7h9M17 7h3M4 17h3M11 17h9M15 9.2a2.2 2.2 0 1 0 0-4.4 2.2 2.2 0 0 0 0 4.4ZM9 19.2a2.2 2.2 0 1 0 0-4.4 2.2 2.2 0 0 0 0 4.4Z',
);
export const JournalIcon = drawn(
  'M6 4h11.5A1.5 1.5 0 0 1 19 5.5V20H7a2 2 0 0 1-2-2V5a1 1 0 0 1 1-1ZM5 17.5A2 2 0 0 1 7 16h12M9 8h6M9 11.5h4',
);
export const ServiceIcon = drawn('M12 3.5v8M7.2 6.4a8 8 0 1 0 9.6 0');
export const LiveIcon = drawn('M3.5 12.5h4l2.5-7 4 13 2.5-6h4');
export const FindingIcon = drawn('M12 4 21 19.5H3L12 4ZM12 10v4.5M12 17v.1');
export const ReviewIcon = drawn('M8 5H6v15h12V5h-2M9 3.5h6v3H9v-3ZM9 13l2 2 4-4.5');
export const MatrixIcon = drawn('M4 5h16v14H4V5ZM4 9.7h16M4 14.3h16M9.5 5v14M15 5v14');

/** A gate between two posts: across the way where it is shut, swung aside where it is open. */
export const GateIcon = ({ open, ...props }: IconProps & { open: boolean }) => (
  <Icon viewBox="0 0 32 32" aria-hidden {...props}>
    <path
      d={open ? 'M6 27V8M26 27V8M6 13l7-4.5v13L6 24' : 'M6 27V8M26 27V8M6 12.5h20M6 22h20M6 22 26 12.5'}
      {...line}
      strokeWidth={2.4}
    />
  </Icon>
);
