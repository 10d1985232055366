import { t } from '@lingui/core/macro';
import {
  FindingIcon,
  FolderIcon,
  GroupIcon,
  HostsIcon,
  JournalIcon,
  KeyIcon,
  LimitIcon,
  LiveIcon,
  MatrixIcon,
  NoticeIcon,
  OverviewIcon,
  PeopleIcon,
  PersonIcon,
  PublishIcon,
  ReviewIcon,
  ServiceIcon,
  SettingsIcon,
  VolumeIcon,
  WhyIcon,
} from './icons';

/** A page that can be gone to; letter is what is typed after g to get there. */
export type Place = { to: string; text: string; Drawn: typeof FolderIcon; letter: string };

/** The pages, in the order of the day's work; what belongs together stands under a name, and can be folded. */
export const placeGroups: { name?: string; places: Place[] }[] = [
  {
    places: [
      { to: '/overview', text: t`Overview`, Drawn: OverviewIcon, letter: 'o' },
      { to: '/folders', text: t`Folders`, Drawn: FolderIcon, letter: 'f' },
      { to: '/volumes', text: t`Volumes`, Drawn: VolumeIcon, letter: 'v' },
      { to: '/publishing', text: t`Publishing`, Drawn: PublishIcon, letter: 'b' },
      { to: '/hosts', text: t`Hosts`, Drawn: HostsIcon, letter: 'h' },
      { to: '/people', text: t`People`, Drawn: PersonIcon, letter: 'p' },
      { to: '/groups', text: t`Groups`, Drawn: GroupIcon, letter: 'g' },
      { to: '/limits', text: t`Limits`, Drawn: LimitIcon, letter: 'l' },
      { to: '/live', text: t`Live`, Drawn: LiveIcon, letter: 'e' },
      { to: '/notices', text: t`Notices`, Drawn: NoticeIcon, letter: 'n' },
    ],
  },
  {
    name: t`Access`,
    places: [
      { to: '/why', text: t`Why`, Drawn: WhyIcon, letter: 'y' },
      { to: '/who', text: t`Who`, Drawn: PeopleIcon, letter: 'w' },
      { to: '/matrix', text: t`Matrix`, Drawn: MatrixIcon, letter: 'm' },
      { to: '/findings', text: t`Findings`, Drawn: FindingIcon, letter: 'i' },
      { to: '/reviews', text: t`Reviews`, Drawn: ReviewIcon, letter: 'r' },
    ],
  },
  {
    places: [
      { to: '/journal', text: t`Journal`, Drawn: JournalIcon, letter: 'j' },
      { to: '/settings', text: t`Settings`, Drawn: SettingsIcon, letter: 's' },
      { to: '/service', text: t`Service`, Drawn: ServiceIcon, letter: 'c' },
    ],
  },
];

/** What there is for who has no role: what is theirs. */
export const placesOfUsers: Place[] = [
  { to: '/account', text: t`My page`, Drawn: KeyIcon, letter: 'a' },
  { to: '/why', text: t`Why`, Drawn: WhyIcon, letter: 'y' },
];
