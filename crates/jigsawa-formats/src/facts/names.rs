//! Spellings of each card in the dialects of capture programs, the most usual first.

pub(super) const FILTER: &[&str] = &[
    "FILTER", "FILTER1", "FILT", "FILTNAM", "FILTERID", "INSFILTE",
];
/// All exposures of a stack together.
pub(super) const TOTAL: &[&str] = &["EXPTOTAL", "TOTALEXP", "TEXPTIME", "TOTEXP"];
pub(super) const EXPOSURE: &[&str] = &[
    "EXPTIME",
    "EXPOSURE",
    "XPOSURE",
    "EXP_TIME",
    "ITIME",
    "EXPOSURE_S",
];
pub(super) const DATE: &[&str] = &["DATE-OBS", "DATE-BEG", "DATE_OBS", "DATEOBS"];
pub(super) const OBJECT: &[&str] = &["OBJECT", "OBJNAME", "TARGET", "TARGNAME"];
pub(super) const CAMERA: &[&str] = &["INSTRUME", "CAMERA", "DETECTOR", "DETNAM"];
pub(super) const GAIN_E_ADU: &[&str] = &["EGAIN", "E-GAIN", "GAINEADU", "EPERADU"];
pub(super) const GAIN_SETTING: &[&str] = &["GAIN", "GAINRAW", "CAMGAIN"];
pub(super) const BINNING_X: &[&str] = &["XBINNING", "BINX", "XBIN", "BINAXIS1"];
pub(super) const BINNING_Y: &[&str] = &["YBINNING", "BINY", "YBIN", "BINAXIS2"];
pub(super) const BINNING_BOTH: &[&str] = &["BINNING", "CCDSUM", "CCDBIN"];
pub(super) const PIXEL_UM: &[&str] = &[
    "XPIXSZ", "PIXSIZE1", "PIXSIZE", "PIXSZ", "PIXELSZ", "XPIXELSZ",
];
pub(super) const FOCAL_MM: &[&str] = &["FOCALLEN", "FOCAL", "FOCLEN", "TELFOCAL"];
pub(super) const KIND: &[&str] = &[
    "IMAGETYP",
    "IMAGETYPE",
    "FRAMETYP",
    "FRAME",
    "OBSTYPE",
    "IMTYPE",
];
pub(super) const SATURATION: &[&str] = &["SATURATE", "SATLEVEL", "SATURAT", "FULLWELL_ADU"];

pub(super) const TELESCOPE: &[&str] = &["TELESCOP", "TELESCOPE", "SCOPE", "OPTICS"];
pub(super) const OFFSET: &[&str] = &["OFFSET", "BLKLEVEL", "BLACKLEV", "CAMOFFS", "BRIGHTNE"];
pub(super) const ISO: &[&str] = &["ISOSPEED", "ISO", "ISOSPEEDRATINGS"];
pub(super) const SET_CELSIUS: &[&str] = &[
    "SET-TEMP", "SETTEMP", "CCD-TSET", "CCDTSET", "TEMPSET", "SETPOINT",
];
pub(super) const CELSIUS: &[&str] = &[
    "CCD-TEMP",
    "CCDTEMP",
    "CCD_TEMP",
    "DET-TEMP",
    "DETTEMP",
    "CAM SENSOR TEMP",
    "TEMPERAT",
    "SENSTEMP",
];
pub(super) const PATTERN: &[&str] = &[
    "BAYERPAT",
    "COLORTYP",
    "CFAPAT",
    "CFA_PATT",
    "CFA-PAT",
    "BAYERPATTERN",
];
pub(super) const PATTERN_X: &[&str] = &["XBAYROFF", "BAYOFFX"];
pub(super) const PATTERN_Y: &[&str] = &["YBAYROFF", "BAYOFFY"];
pub(super) const READOUT: &[&str] = &["READOUTM", "READMODE", "READOUT"];
pub(super) const ROTATOR: &[&str] = &["ROTATANG", "ROTATOR", "ROTANGLE"];
pub(super) const FOCUS: &[&str] = &[
    "FOCUSPOS",
    "FOCPOS",
    "FOCUSER",
    "FOCUSSZ",
    "FOCUS",
    "FOCUS_POS",
    "POSITION",
];
pub(super) const PIER: &[&str] = &["PIERSIDE", "PIER_SIDE", "SIDEPIER", "PIER", "SIDEOFPIER"];
pub(super) const HOUR_ANGLE: &[&str] = &["OBJCTHA", "HA", "HOURANG", "TELHA", "HA_DEG"];
pub(super) const ALTITUDE: &[&str] = &[
    "CENTALT", "OBJCTALT", "ALTITUDE", "ALT", "TELALT", "ALT-OBS", "ELEVATIO", "ALT_OBJ",
];
pub(super) const AIRMASS: &[&str] = &["AIRMASS", "AIR_MASS", "SECZ"];
pub(super) const LATITUDE: &[&str] = &[
    "SITELAT", "OBSGEO-B", "LAT-OBS", "SITE-LAT", "LATITUDE", "OBS-LAT", "GEOLAT",
];
pub(super) const LONGITUDE: &[&str] = &[
    "SITELONG", "OBSGEO-L", "LONG-OBS", "SITE-LON", "LONGITUD", "OBS-LONG", "GEOLONG",
];
pub(super) const RIGHT_ASCENSION: &[&str] = &["OBJCTRA", "RA", "RA_OBJ", "TELRA", "CENTRA"];
pub(super) const DECLINATION: &[&str] = &["OBJCTDEC", "DEC", "DEC_OBJ", "TELDEC", "CENTDEC"];
pub(super) const COMBINED: &[&str] = &["NCOMBINE", "STACKCNT", "NFRAMES", "NUMCOMB", "COMBINED"];
pub(super) const TIME: &[&str] = &["TIME-OBS", "UT", "UTC", "TIME-BEG", "UTSTART"];
pub(super) const LOCAL_DATE: &[&str] = &["DATE-LOC", "LOCTIME", "DATE-LT", "LT-OBS"];
